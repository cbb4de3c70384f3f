insert into examination_gap (node, from_at, until_at, learned_at, until_learned_at) values ($1, $2, $3, $4, $5)
