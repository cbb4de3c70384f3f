select asked.clause from unnest($1::text[], $2::text[]) as asked (clause, pattern)
    where not exists (select 1 from clause where body ->> 'address' like asked.pattern escape '\')
