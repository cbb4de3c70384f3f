with used as (select distinct unnest(clauses) as id from effective_state)
    delete from clause_content where clause not in (select id from used)
