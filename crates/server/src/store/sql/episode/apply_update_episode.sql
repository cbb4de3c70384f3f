update episode e set closed_at = greatest(c.at, e.detected_at), closed_as = c.closed_as, closed_run = $2, closed_learned_at = $3
    from unnest($4::text[], $5::text[], $6::timestamptz[]) as c (address, closed_as, at)
    where e.node = $1 and e.address = c.address and e.closed_at is null
