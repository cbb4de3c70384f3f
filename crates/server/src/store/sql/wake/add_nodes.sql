insert into wake_node (wake, node, was_waiting)
    select $1, node.id, coalesce(w.waits_until > $3, false) from node left join node_wake w on w.node = node.id
    where node.id = any($2) and node.retired_at is null and node.revoked_at is null
