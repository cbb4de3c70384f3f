insert into dropped_state (state, since)
    select s.id, $1 from effective_state s where s.made_at < $2
        and not exists (select from node_wanted w where w.state = s.id)
        and not exists (select from examined_state e where e.state = s.id)
        and not exists (select from change_node c where c.state = s.id or c.before_state = s.id)
    on conflict (state) do nothing
