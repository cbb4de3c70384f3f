update learned_day set leaves = $2 where day = $1
