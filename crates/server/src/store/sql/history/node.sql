select node.no, n.clock_off_ms, s.id as state,
        exists (select 1 from examined_state e where e.node = node.no and e.state = s.id) as is_state_examined,
        exists (select 1 from deviation d where d.node = node.no and d.until_at is null) as has_open
    from node join node_now n on n.node = node.id
        left join effective_state s on s.digest = $2 and exists (select 1 from change_node c where c.node = node.id and c.state = s.id)
    where node.id = $1
