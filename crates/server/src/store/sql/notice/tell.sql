select pg_notify($1, $2)
