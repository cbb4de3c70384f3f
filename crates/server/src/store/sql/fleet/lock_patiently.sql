select pg_advisory_xact_lock($1)
