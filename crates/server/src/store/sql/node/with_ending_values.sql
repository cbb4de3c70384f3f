select id, name, labels, own from node
    where (own ? 'properties' or own ? 'settings_until') and retired_at is null
        and (own ? 'settings_until' or jsonb_path_exists(own, '$.properties.*.*.until')) order by id
