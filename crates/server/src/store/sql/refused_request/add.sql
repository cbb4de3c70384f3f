insert into refused_request (person, node, what, from_where, status, first_at, last_at, times) values ($1, $2, $3, $4, $5, $6, $6, $7)
    on conflict (person, node, what, from_where, status) do update set last_at = $6, times = refused_request.times + $7
