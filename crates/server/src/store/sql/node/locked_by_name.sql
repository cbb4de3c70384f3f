select id from node where name = $1 and retired_at is null for no key update
