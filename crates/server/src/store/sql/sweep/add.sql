insert into sweep (id, body, which, who, because, asked_at, begins_at, ends_at, follows) values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning no
