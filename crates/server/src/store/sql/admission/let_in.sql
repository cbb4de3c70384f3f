select r.id, r.name, node.name as node, r.spki_digest, r.address, r.decided_at as at
    from joining_request r left join node on node.id = r.node and node.retired_at is null
    where r.rule = $4 and r.decision = 'approved' and ($1::timestamptz is null or (r.decided_at, r.id::text) < ($1, $2))
    order by r.decided_at desc, r.id::text desc limit $3
