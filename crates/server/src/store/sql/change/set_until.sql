select c.no, c.what, c.who, c.because, c.ended_at from change c, jsonb_array_elements(c.edits) e
    where c.status = 'handed_out' and e ->> 'key' = $1
        and coalesce(e #>> array['after', 'settings_until', $2, 'until'], e #>> array['after', 'own', 'settings_until', $2, 'until'])
            is distinct from coalesce(e #>> array['before', 'settings_until', $2, 'until'], e #>> array['before', 'own', 'settings_until', $2, 'until'])
    order by c.no desc limit 1
