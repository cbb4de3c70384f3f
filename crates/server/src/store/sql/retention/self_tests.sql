delete from self_test where no in (select no from self_test where asked_at < $1 limit $2)
