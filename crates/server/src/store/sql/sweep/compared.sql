select node.name, b.is_in_line as was_in_line, a.is_in_line from sweep_node b join sweep_node a on a.node = b.node join node on node.id = a.node
    where b.sweep = $1 and a.sweep = $2 and b.done_at is not null and a.done_at is not null order by node.name
