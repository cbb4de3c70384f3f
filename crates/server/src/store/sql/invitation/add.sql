insert into invitation (id, secret_digest, labels, uses, uses_left, made_by, expires_at, made_at) values ($1, $2, $3, $4, $4, $5, $6, $7)
