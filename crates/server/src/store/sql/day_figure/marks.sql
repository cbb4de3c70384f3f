select id, day from day_mark
