select name, roles, created_at, password is not null as has_password,
        (select count(*) from session where person = p.name and expires_at > $4) as sessions,
        (select count(*) from token where person = p.name and (expires_at is null or expires_at > $4)) as tokens,
        greatest((select max(last_at) from session where person = p.name), (select max(last_at) from token where person = p.name)) as last_at
    from person p where removed_at is null and ($1::timestamptz is null or (created_at, name) > ($1, $2::text)) order by created_at, name limit $3
