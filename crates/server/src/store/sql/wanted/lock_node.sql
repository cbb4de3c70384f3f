select 1 from node where id = $1 for no key update
