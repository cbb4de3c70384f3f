select clauses from drill where no = $1 and node = $2 and asked_at <= $3::timestamptz + interval '1 minute'
    and (over_at is null or over_at > $3::timestamptz - interval '5 minutes')
