delete from change_node where change = $1 and node = any($2)
