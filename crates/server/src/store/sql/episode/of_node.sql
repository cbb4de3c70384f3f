select address, severity, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run from episode
    where node = $1 order by closed_at is not null, detected_at desc limit 500
