update rollout set status = 'halted', halted_because = $2, halted_by = $3, halted_at = $4, next_change = null
    where ($1::bigint is null or change = $1) and status = 'going'
