update person set roles = array_remove(roles, $2) where name = $1 and $2 = any(roles)
