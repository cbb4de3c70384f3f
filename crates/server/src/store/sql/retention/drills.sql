delete from drill where no in (select no from drill where asked_at < $1 limit $2)
