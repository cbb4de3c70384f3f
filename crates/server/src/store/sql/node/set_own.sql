update node set own = $2 where id = $1 and own <> $2
