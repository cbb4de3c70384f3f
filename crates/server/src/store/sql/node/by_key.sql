select node.name, node.revoked_at is not null or node_key.revoked_at is not null as is_revoked, node.retired_at is not null as is_retired
    from node join node_key on node_key.node = node.id where node.id = $1 and node_key.spki_digest = $2
