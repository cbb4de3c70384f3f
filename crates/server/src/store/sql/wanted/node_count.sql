select count(*) from node where retired_at is null
