select change, who, done, total from job where kind = 'change' and ended_at is null
    and id < (select max(id) from job where change = $1 and kind = 'change') order by id limit 1
