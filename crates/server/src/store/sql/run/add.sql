insert into run (node, run, began, mode, status, partial, state, report, texts, learned_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
