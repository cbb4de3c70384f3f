update job set stop_by = $2 where change = $1 and ended_at is null
