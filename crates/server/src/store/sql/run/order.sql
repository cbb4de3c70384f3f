select memory_epoch, sequence, span, open_episodes, full_status, memory_lost_at is not null as is_memory_lost, exists (select 1 from node_exception e where e.node = node_now.node) as has_exceptions,
        ran_at, known_until, known_learned
    from node_now where node = $1 and memory_epoch is not null for update
