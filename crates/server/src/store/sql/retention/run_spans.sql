delete from run_span where id in (select s.id from run_span s where s.last_at < $1 and s.last_learned_at < $1
    and not exists (select 1 from node_now n where n.node = s.node and n.span = s.id) limit $2)
