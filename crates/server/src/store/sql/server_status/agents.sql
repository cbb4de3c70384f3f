select a.value #>> '{}' as version, count(*) as nodes
    from node left join node_attribute a on a.node = node.id and a.name = 'agent' and a.until_at is null and a.superseded_at is null
    where node.retired_at is null and node.revoked_at is null group by 1
