update wake_node set answered_at = $2 where node = $1 and answered_at is null
