insert into clause_content (name, clause)
    select new.name, clause.id from unnest($1::text[], $2::text[]) as new (clause, name) join clause on clause.digest = new.clause
    on conflict (name, clause) do nothing
