select distinct name from unnest($1::text[]) as name where not exists (select 1 from content where content.name = name.name)
