select distinct jsonb_array_elements_text(s.body -> 'not_served') as baseline
    from (select distinct sources from change_node where change = $1) c join state_sources s on s.id = c.sources order by baseline limit 100
