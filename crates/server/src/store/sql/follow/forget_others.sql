delete from followed_clause where node = $1 and run <> $2
