insert into served (stage, kit, version, served_by, from_at, learned_at, change) values ($1, $2, $3, $4, $5, $5, $6)
