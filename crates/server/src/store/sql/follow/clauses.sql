select no, told from followed_clause where node = $1 and run = $2 and no > $3 order by no limit $4
