insert into admission_rule (body, has_table, placement, at_most, because, made_by, made_at, until_at) values ($1, $2, $3, $4, $5, $6, $7, $8) returning no
