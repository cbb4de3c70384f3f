insert into followed (node, began_at, until_at, was_waiting)
    select node.id, $2, $3, coalesce(w.waits_until > $2, false) from node left join node_wake w on w.node = node.id where node.id = $1
    on conflict (node) do update set until_at = excluded.until_at
