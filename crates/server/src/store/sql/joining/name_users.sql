select node.name, node.joined_at, (select spki_digest from node_key k where k.node = node.id order by k.issued_at desc limit 1) as spki_digest,
        node_now.heard_at as last_contact, node.revoked_at
    from node left join node_now on node_now.node = node.id where node.name = any($1) and node.retired_at is null
