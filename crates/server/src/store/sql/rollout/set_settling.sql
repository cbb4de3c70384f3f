update rollout_wave set settling_since = $3 where rollout = $1 and wave = $2
