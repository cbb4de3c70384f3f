update job set stop_by = $3 where case when $1 = 'evidence' then evidence else change end = $2 and ended_at is null
