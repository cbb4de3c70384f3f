insert into run_span (node, state, mode, first_at, last_at, count, largest_gap_ms, largest_delay_ms, first_learned_at, last_learned_at, status, found, run, known_by_metadata)
    values ($1, $2, $3, $4, $4, 1, 0, (extract(epoch from ($5::timestamptz - $4)) * 1000)::bigint, $5, $5, $6, $7, $8, $9) returning id
