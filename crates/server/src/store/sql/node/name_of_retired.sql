select name from node where id = $1 and retired_at is not null for no key update
