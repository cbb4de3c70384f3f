select id, person, name, made_for, created_at, expires_at, last_at from token
    where ($1::text is null or person = $1) and (expires_at is null or expires_at > $2) order by person, created_at limit 10000
