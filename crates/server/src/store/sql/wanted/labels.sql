select label.key, array_agg(distinct label.value order by label.value)
    from node, jsonb_each_text(node.labels) as label where node.retired_at is null
    group by label.key order by label.key limit 10000
