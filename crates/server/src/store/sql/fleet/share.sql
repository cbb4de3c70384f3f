select pg_advisory_xact_lock_shared($1)
