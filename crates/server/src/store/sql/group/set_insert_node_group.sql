insert into node_group (name, body, set_by, from_at, learned_at, change) values ($1, $2, $3, $4, $4, $5)
