select pg_try_advisory_xact_lock(x'6175646974'::bigint)
