select a.day, 0 as moment, null::text as key, coalesce(f.compliant, 0) as compliant, coalesce(f.in_doubt, 0) as in_doubt, coalesce(f.noncompliant, 0) as noncompliant,
        coalesce(f.conceded, 0) as conceded, coalesce(f.unexamined, 0) as unexamined, coalesce(f.unknown, 0) as unknown, coalesce(f.nodes_compliant, 0) as nodes_compliant,
        coalesce(f.nodes_deviating, 0) as nodes_deviating, coalesce(f.nodes_critical, 0) as nodes_critical, coalesce(f.nodes_conceded, 0) as nodes_conceded,
        coalesce(f.nodes_not_known, 0) as nodes_not_known
    from day_figure a left join day_figure f on f.day = a.day and f.dimension = $3 and f.key = $4
    where a.day between $1 and $2 and a.dimension = 'all' and not exists (select 1 from day_mark m where m.day = a.day)
