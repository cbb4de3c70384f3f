delete from event where id in (select id from event where who is null and at < $1 order by id limit 5000)
