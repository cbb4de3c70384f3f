insert into day_figure (day, compliant, in_doubt, noncompliant, conceded, unexamined, unknown, nodes_compliant, nodes_deviating, nodes_critical, nodes_conceded, nodes_not_known)
    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
    on conflict (day) do update set compliant = excluded.compliant, in_doubt = excluded.in_doubt, noncompliant = excluded.noncompliant, conceded = excluded.conceded, unexamined = excluded.unexamined, unknown = excluded.unknown,
        nodes_compliant = excluded.nodes_compliant, nodes_deviating = excluded.nodes_deviating, nodes_critical = excluded.nodes_critical, nodes_conceded = excluded.nodes_conceded, nodes_not_known = excluded.nodes_not_known
