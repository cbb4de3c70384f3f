select r.name, node.name as node, r.spki_digest, r.address, r.decided_at as at
    from joining_request r left join node on node.id = r.node and node.retired_at is null
    where r.rule = $1 and r.decision = 'approved' order by r.decided_at desc, r.id limit 1000
