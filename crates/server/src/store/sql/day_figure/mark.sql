insert into day_mark (day) select day::date from generate_series($1::date, $2::date, interval '1 day') as day
