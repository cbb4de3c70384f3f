insert into session (digest, person, address, expires_at, made_at, last_at) values ($1, $2, $3, $5::timestamptz + make_interval(secs => $4), $5, $5)
