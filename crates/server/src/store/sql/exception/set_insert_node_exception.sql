insert into node_exception (node, name, address, severity, outcome, cause, message, since, run)
    select $1, node.name, address, severity, outcome, cause, message, $2, $3 from unnest($4::text[], $5::text[], $6::text[], $7::text[], $8::text[])
        as new (address, severity, outcome, cause, message) join node on node.id = $1
    on conflict (node, address) do update set severity = excluded.severity, outcome = excluded.outcome, cause = excluded.cause, message = excluded.message,
        since = case when node_exception.outcome = excluded.outcome then node_exception.since else excluded.since end, run = excluded.run
