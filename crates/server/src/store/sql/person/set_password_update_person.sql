update person set password = $2 where name = $1
