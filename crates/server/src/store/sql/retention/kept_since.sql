select max(day) from learned_day where leaves is not null
