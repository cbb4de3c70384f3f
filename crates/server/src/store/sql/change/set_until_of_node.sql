select c.no, c.what, c.who, c.because, c.ended_at from change c, jsonb_array_elements(c.edits) e
    where c.status = 'handed_out' and c.edits @> jsonb_build_array(jsonb_build_object('key', $1::text)) and e ->> 'key' = $1
        and e #>> array['after', 'own', 'settings_until', $2, 'until'] is distinct from e #>> array['before', 'own', 'settings_until', $2, 'until']
    order by c.no desc limit 1
