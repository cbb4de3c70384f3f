delete from deviation_doubt where ctid in (select ctid from deviation_doubt where learned_at < $1 and until_at < $1 limit $2)
