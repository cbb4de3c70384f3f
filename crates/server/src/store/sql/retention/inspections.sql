delete from inspection where no in (select no from inspection where asked_at < $1 limit $2)
