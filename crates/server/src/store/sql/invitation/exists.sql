select exists (select 1 from invitation where id = $1)
