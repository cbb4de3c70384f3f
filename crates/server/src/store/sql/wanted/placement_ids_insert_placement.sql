insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs, assignments)
    select * from unnest($1::text[], $2::text[], $3::jsonb[], $4::text[], $5::jsonb[], $6::text[], $7::bigint[], $8::jsonb[]) as new (digest)
    order by new.digest on conflict (digest) do nothing
