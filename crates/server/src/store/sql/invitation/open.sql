select id, labels, uses, uses_left, made_by, made_at, expires_at from invitation
    where withdrawn_at is null and uses_left > 0 and expires_at > $4 and ($1::timestamptz is null or (made_at, id::text) < ($1, $2::text))
    order by made_at desc, id::text desc limit $3
