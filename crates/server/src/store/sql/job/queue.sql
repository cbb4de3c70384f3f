insert into job (kind, change, what, who, queued_at, reached) values ($1, $2, $3, $4, $5, $6)
