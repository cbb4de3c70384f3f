select person, node.name as node, what, from_where, status, first_at, last_at, times
    from refused_request left join node on node.id = refused_request.node order by last_at desc limit 1000
