insert into person (name, roles, created_at) values ($1, array[$2], $3)
    on conflict (name) do update set roles = array_append(person.roles, $2), removed_at = null where not $2 = any(person.roles)
