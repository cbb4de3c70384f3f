insert into missing_runs (node, runs, after_at, before_at, learned_at) values ($1, $2, $3, $4, $5)
