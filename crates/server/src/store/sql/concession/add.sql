insert into concession (no, clauses, patterns, filter, because, covers_unknown, asked_by, asked_at, until_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
