select wanted, id from desired_clause where wanted = any($1)
