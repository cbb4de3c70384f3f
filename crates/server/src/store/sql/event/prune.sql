with oldest as (select id, at from event where who is null order by id limit 5000)
delete from event where id in (select id from oldest where at < $1)
