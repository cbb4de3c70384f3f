insert into state_sources (digest, body) select * from unnest($1::text[], $2::jsonb[]) as new (digest) order by new.digest
    on conflict (digest) do nothing
