select node.name, c.taken_at, n.promised_at, coalesce(w.change > c.change, false) as is_later
    from change_node c join node on node.id = c.node left join node_now n on n.node = c.node left join node_wanted w on w.node = c.node
    where c.change = $1 and c.is_new and ($2::boolean is null or (c.taken_at is not null, node.name) > ($2, $3))
    order by c.taken_at is not null, node.name limit $4
