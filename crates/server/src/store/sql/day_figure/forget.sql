delete from day_figure where day = any($1)
