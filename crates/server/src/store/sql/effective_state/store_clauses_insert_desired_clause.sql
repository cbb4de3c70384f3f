insert into desired_clause (address, wanted)
    select distinct on (new.wanted) a.id, new.wanted
    from (select body::json ->> 'address' as address, body::json ->> 'wanted' as wanted from unnest($1::text[]) as b (body)) new
        join clause_address a on a.address = new.address
    order by new.wanted on conflict (wanted) do nothing
