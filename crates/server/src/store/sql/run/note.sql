update node_now set memory_epoch = $2, sequence = $3, span = $4,
        full_status = case when $9 then $5 else full_status end, full_state = case when $9 then $6 else full_state end,
        full_began = case when $9 then $7 else full_began end, full_run = case when $9 then $8 else full_run end,
        full_learned = case when $9 then $10 else full_learned end,
        overdue_at = case when $9 then $10 + make_interval(secs => overdue_secs) else overdue_at end,
        ran_at = $11::timestamptz, known_until = case when $12 then $11::timestamptz + make_interval(secs => overdue_secs) else known_until end,
        known_learned = case when $12 then $10 else known_learned end
    where node = $1
