select day, rows, root from learned_day d where leaves is null and day < $1
    and (day < $2 or exists (select 1 from day_figure f where f.day = d.day)) order by day limit 8
