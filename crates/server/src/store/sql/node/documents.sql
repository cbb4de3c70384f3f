select id, name, labels, own from node where id = any($1) and retired_at is null
