with later as materialized (select cn.state, cn.before_state from change_node cn where cn.change in
        (select no from change where ended_at is null or ended_at >= (select min(since) from dropped_state)))
    delete from effective_state s using dropped_state d where s.id = d.state
        and not exists (select 1 from node_wanted w where w.state = s.id)
        and not exists (select 1 from later where later.state = s.id)
        and not exists (select 1 from later where later.before_state = s.id)
        and not exists (select 1 from node_now n where n.full_state = s.digest)
        and not exists (select 1 from node_now n where n.has_state = s.digest)
