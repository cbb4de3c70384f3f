select id, person, name, made_for, created_at, expires_at, last_at from token
    where ($4::text is null or person = $4) and (expires_at is null or expires_at > $5) and ($1::timestamptz is null or (created_at, id::text) > ($1, $2::text))
    order by created_at, id::text limit $3
