select node.name, c.unusable from change_node c join node on node.id = c.node and node.retired_at is null
        left join node_wanted w on w.node = c.node
    where c.change = $1 and c.unusable is not null and w.unusable is null order by node.name limit 100000
