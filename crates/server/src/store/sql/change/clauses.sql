select id, md5((body::jsonb - 'origins')::text), body ->> 'address', case when body ->> 'reaction' = 'restart'
        then coalesce((select array_agg(on_what) from json_array_elements_text(body -> 'reacts_to') as on_what), '{}') else '{}' end
    from clause where id = any($1)
