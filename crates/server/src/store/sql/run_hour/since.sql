select from_at, runs, corrections, failures from run_hour where from_at >= $1 order by from_at
