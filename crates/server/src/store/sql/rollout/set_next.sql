update rollout set next_change = $2 where change = $1
