select node, wake from node_wake where node = any($1) and ($2::bigint is null or wake = $2)
