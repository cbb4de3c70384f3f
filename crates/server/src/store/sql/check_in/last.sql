select mark, mark_before, duplicate_identity_since is not null as has_duplicate_identity, heard_span, on_time_until, attributes_digest from node_now where node = $1 for update
