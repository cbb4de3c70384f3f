select id from node where input_pending and retired_at is null limit 100
