select c.node, coalesce(node.labels ->> $2, '') as within from change_node c join node on node.id = c.node
    where c.change = $1 and (c.is_new or c.unusable is not null) and node.retired_at is null order by c.node
