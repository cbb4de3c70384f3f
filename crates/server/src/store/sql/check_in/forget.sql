update node_now set mark = null, mark_before = null, duplicate_identity_since = null, has_epoch = null, has_counter = null, has_state = null, attributes_digest = null
    where node = $1
