delete from related_records where (node, run, address) in (select node, run, address from related_records where learned_at < $1 limit $2)
