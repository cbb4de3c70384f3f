update node_now set is_refused = false where node = $1
