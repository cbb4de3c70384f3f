select true from node_now where node = $1 and duplicate_identity_since is not null for update
