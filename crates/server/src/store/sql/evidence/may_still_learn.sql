select exists (select 1 from pg_stat_activity where datname = current_database() and backend_type = 'client backend' and pid <> pg_backend_pid()
    and state in ('active', 'idle in transaction') and xact_start < clock_timestamp() - make_interval(secs => $1))
