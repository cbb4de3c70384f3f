select s.digest as state, w.epoch, w.counter, coalesce(p.settings, '{}') as settings, exists (select 1 from recovery where ended_at is null) as recovering
    from node_wanted w left join placement p on p.id = w.placement left join effective_state s on s.id = w.state where w.node = $1
