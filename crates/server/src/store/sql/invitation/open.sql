select id, labels, uses, uses_left, made_by, made_at, expires_at from invitation
    where withdrawn_at is null and uses_left > 0 and expires_at > $1 order by made_at desc limit 1000
