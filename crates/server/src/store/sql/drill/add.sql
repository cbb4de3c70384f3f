insert into drill (node, clauses, for_secs, at_once, who, because, asked_at, offered_until, was_waiting)
    select node.id, $2, $3, $4, $5, $6, $7, $8, coalesce(w.waits_until > $7, false) from node left join node_wake w on w.node = node.id where node.id = $1
    returning no
