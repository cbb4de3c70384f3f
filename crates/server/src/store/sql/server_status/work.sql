select (select count(*) from node where input_pending and retired_at is null) as nodes_pending,
    (select count(*) from job where ended_at is null) as jobs_open,
    (select min(queued_at) from job where ended_at is null) as oldest_job,
    pg_database_size(current_database()) as database_bytes
