update rollout set status = $2, ended_at = $3, ended_by = $4, next_change = null where change = $1 and ended_at is null
