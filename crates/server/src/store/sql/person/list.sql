select name, roles, created_at, password is not null as has_password,
        (select count(*) from session where person = p.name and expires_at > $1) as sessions,
        (select count(*) from token where person = p.name and (expires_at is null or expires_at > $1)) as tokens,
        greatest((select max(last_at) from session where person = p.name), (select max(last_at) from token where person = p.name)) as last_at
    from person p where removed_at is null order by name limit 10000
