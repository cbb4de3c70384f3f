delete from token where id = $1 and ($2::text is null or person = $2)
    returning id, person, name, made_for, created_at, expires_at, last_at
