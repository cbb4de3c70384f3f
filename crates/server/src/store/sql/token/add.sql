insert into token (id, digest, person, name, made_for, expires_at, created_at)
    values ($1, $2, $3, $4, $5, $7::timestamptz + make_interval(secs => $6), $7) returning expires_at
