update invitation set uses_left = uses_left - 1 where id = $1
