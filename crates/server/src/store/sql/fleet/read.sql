select rev, resolver, epoch, pg_current_snapshot()::text as snapshot from fleet
