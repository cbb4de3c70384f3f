select digest, id from clause where digest = any($1)
