insert into self_test (node, who, asked_at, ends_at, was_waiting, nonce, state)
    select node.id, $2, $3, $4, coalesce(w.waits_until > $3, false), $5, $6 from node left join node_wake w on w.node = node.id where node.id = $1
    returning no
