select day, ends_at from day_figure where dimension = 'all' and day between $1 and $2
