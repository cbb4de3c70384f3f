insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at, drill)
        select $1, o.address, o.severity, o.wanted, o.in_line_until, o.detected_at, $2, $3, o.drill
        from unnest($4::text[], $5::text[], $6::text[], $7::timestamptz[], $8::timestamptz[], $9::bigint[])
            as o (address, severity, wanted, in_line_until, detected_at, drill)
    on conflict (node, address) where closed_at is null do nothing
