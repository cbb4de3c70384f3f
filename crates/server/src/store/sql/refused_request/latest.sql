select person, node, what, from_where, status, first_at, last_at, times, key
    from (select r.person, node.name as node, r.what, r.from_where, r.status, r.first_at, r.last_at, r.times,
            concat_ws(' ', r.status, r.person, r.node, r.from_where, r.what) as key
        from refused_request r left join node on node.id = r.node) r
    where $1::timestamptz is null or (last_at, key) < ($1, $2::text) order by last_at desc, key desc limit $3
