insert into clause_address (address) select distinct body::json ->> 'address' as address from unnest($1::text[]) as new (body) order by address
    on conflict (address) do nothing
