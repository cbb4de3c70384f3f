delete from wake where no in (select no from wake where at < $1 limit $2)
