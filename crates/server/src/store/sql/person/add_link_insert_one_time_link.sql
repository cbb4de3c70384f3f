insert into one_time_link (digest, person, expires_at, made_at) values ($1, $2, $4::timestamptz + make_interval(hours => $3), $4)
