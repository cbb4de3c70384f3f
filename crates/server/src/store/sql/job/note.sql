update job set reached = $3, done = $4, total = $5, leased_until = $6::timestamptz + make_interval(secs => $7)
    where id = $1 and fence = $2 and ended_at is null returning stop_by
