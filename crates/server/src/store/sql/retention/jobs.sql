delete from job where id in (select id from job where ended_at < $1 limit $2)
