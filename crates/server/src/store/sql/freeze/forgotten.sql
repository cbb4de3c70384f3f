select count(*) as nodes, min(node.name) as node, (array_agg(held.body))[1] as held
    from node_attribute a join node on node.id = a.node and node.retired_at is null, jsonb_array_elements(a.value -> 'freezes') as held (body)
    where a.name = 'freezes' and a.until_at is null and a.superseded_at is null
        and not exists (select 1 from change_freeze f where f.no = (held.body ->> 'no')::bigint and f.because = held.body ->> 'because')
    group by held.body ->> 'no', held.body ->> 'because' order by 1 desc limit 100
