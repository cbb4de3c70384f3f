with used as (select distinct unnest(clauses) as id from effective_state)
    delete from clause where id not in (select id from used)
