select node.id as node, node.name, node.revoked_at is not null as is_revoked, node_key.revoked_at is not null as is_key_revoked, node.retired_at is not null as is_retired,
        node_key.ends_at <= $2 as has_ended
    from node_key join node on node.id = node_key.node where spki_digest = $1
