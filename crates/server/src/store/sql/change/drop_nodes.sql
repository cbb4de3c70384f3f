with dropped as (delete from change_node where change = any($1) returning change, state)
    insert into dropped_state (state, since)
    select d.state, min(c.drafted_at) from dropped d join change c on c.no = d.change
        join effective_state s on s.id = d.state and s.made_at >= c.drafted_at
    group by d.state on conflict (state) do nothing
