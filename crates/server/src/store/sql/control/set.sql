with made as (insert into control_catalogue (body, set_by, because, from_at) values ($1, $2, $3, $4) returning no)
insert into control (catalogue, id, title, scope)
    select made.no, c ->> 'id', c ->> 'title', c ->> 'scope' from made, jsonb_array_elements($1::jsonb -> 'controls') as c
        where not coalesce((c ->> 'is_heading')::boolean, false)
    returning catalogue
