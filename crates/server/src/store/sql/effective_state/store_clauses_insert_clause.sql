insert into clause (digest, body) select digest, body::json from unnest($1::text[], $2::text[]) as new (digest, body) order by digest
    on conflict (digest) do nothing
