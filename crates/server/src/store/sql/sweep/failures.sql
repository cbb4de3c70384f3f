select f.failed ->> 'address' as address, f.failed ->> 'message' as message, count(*) as nodes, (array_agg(node.name order by node.name))[1:20] as names
    from sweep_node x join node on node.id = x.node cross join lateral jsonb_array_elements(x.came_of -> 'failed') as f (failed)
    where x.sweep = $1 group by 1, 2 order by 3 desc, 1, 2 limit 200
