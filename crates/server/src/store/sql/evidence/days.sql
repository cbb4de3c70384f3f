select day, rows, root, digest from learned_day order by day
