select day, 0 as moment, null::text as key, compliant, in_doubt, noncompliant, conceded, unexamined, unknown, nodes_compliant, nodes_deviating, nodes_critical,
        nodes_conceded, nodes_not_known
    from day_figure where day between $1 and $2 and not exists (select 1 from day_mark m where m.day = day_figure.day)
