delete from missing_runs where ctid in (select ctid from missing_runs where learned_at < $1 limit $2)
