insert into related_records (node, run, address, body, learned_at)
    select $1, $2, address, body, $5 from unnest($3::text[], $4::jsonb[]) as r (address, body) on conflict do nothing
