delete from heard where id in (select h.id from heard h where h.last_at < $1
    and not exists (select 1 from node_now n where n.node = h.node and n.heard_span = h.id) limit $2)
