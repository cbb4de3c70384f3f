insert into learned_day (day, rows, root, digest) values ($1, $2, $3, $4)
