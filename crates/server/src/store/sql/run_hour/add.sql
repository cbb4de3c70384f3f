insert into run_hour (from_at, runs, corrections, failures) values (date_trunc('hour', $1::timestamptz at time zone 'UTC') at time zone 'UTC', $2, $3, $4)
    on conflict (from_at) do update set runs = run_hour.runs + excluded.runs, corrections = run_hour.corrections + excluded.corrections,
        failures = run_hour.failures + excluded.failures
