select x.node, node.name, x.found, x.would from sweep_node x join node on node.id = x.node where x.sweep = $1 and x.done_at is not null and node.retired_at is null order by node.name
