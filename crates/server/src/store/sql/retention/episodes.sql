delete from episode where id in (select id from episode where closed_at < $1 and closed_learned_at < $1 limit $2)
