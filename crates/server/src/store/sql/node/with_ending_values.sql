select id, name, labels, own from node where own ? 'properties' and retired_at is null and jsonb_path_exists(own, '$.properties.*.*.until') order by id
