select node.name, node.restart_pending, p.settings from change_node c join node on node.id = c.node and node.retired_at is null
        join placement p on p.id = c.placement left join placement b on b.id = c.before_placement
    where c.change = $1 and c.placement is distinct from c.before_placement and jsonb_typeof(node.restart_pending) = 'object'
        and p.settings->>'restart' <> 'never' and p.settings->>'restart' is distinct from b.settings->>'restart'
    order by node.name limit 200
