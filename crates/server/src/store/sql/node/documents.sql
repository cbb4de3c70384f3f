select id, name, labels from node where id = any($1) and retired_at is null
