delete from day_mark where id = any($1)
