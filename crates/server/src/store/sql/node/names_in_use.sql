select name from node where name = any($1) and retired_at is null
