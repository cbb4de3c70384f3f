select leaves from learned_day where day = $1
