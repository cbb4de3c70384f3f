update job set leased_until = $3::timestamptz + make_interval(secs => $4) where id = $1 and fence = $2 and ended_at is null
