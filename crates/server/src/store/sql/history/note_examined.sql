update node_now set examined_state = $2 from node where node.no = $1 and node_now.node = node.id
