select a.name, a.fields, n.id is not null as is_enrolled
    from asset a left join node n on n.name = a.name and n.retired_at is null and n.revoked_at is null
    where a.name > $2 and not ($1 and n.id is not null) order by a.name limit $3
