select wave, change, handed_out_at, settling_since from rollout_wave where rollout = $1 order by wave
