insert into day_figure (day, ends_at, dimension, key, compliant, in_doubt, noncompliant, conceded, unexamined, unknown, nodes_compliant, nodes_deviating, nodes_critical, nodes_conceded, nodes_not_known)
    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
