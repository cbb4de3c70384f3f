insert into inspection (node, kind, name, who, because, asked_at, ends_at, was_waiting)
    select node.id, $2, $3, $4, $5, $6, $7, coalesce(w.waits_until > $6, false) from node left join node_wake w on w.node = node.id where node.id = $1
    returning no
