delete from deviation where id in (select id from deviation where until_learned_at < $1 and until_at < $1 limit $2)
