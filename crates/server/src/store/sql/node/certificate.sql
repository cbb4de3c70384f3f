select node.id, node.name, node_key.certificate, node_key.ends_at from node_key join node on node.id = node_key.node where spki_digest = $1
