select withdrawn_at is not null, expires_at <= $3, uses_left from invitation where id = $1 and secret_digest = $2 for update
