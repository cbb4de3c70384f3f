delete from sweep where no in (select no from sweep where asked_at < $1 limit $2)
