select node.name from node left join node_wanted w on w.node = node.id left join placement p on p.id = w.placement
    where node.id = any($1) and not coalesce(p.groups ?| $2, false) order by node.name limit 1
