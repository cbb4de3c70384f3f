insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at)
        select $1, o.address, o.severity, o.wanted, o.in_line_until, o.detected_at, $2, $3
        from unnest($4::text[], $5::text[], $6::text[], $7::timestamptz[], $8::timestamptz[])
            as o (address, severity, wanted, in_line_until, detected_at)
    on conflict (node, address) where closed_at is null do nothing
