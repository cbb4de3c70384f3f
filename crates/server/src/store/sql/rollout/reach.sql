with reached as (
        update rollout set reached = $2, next_change = null, status = 'going', halted_because = null, halted_by = null, halted_at = null
            where change = $1 and ended_at is null and reached = $2 - 1 and (status = 'going' or $4) returning change)
    insert into rollout_wave (rollout, wave, change, handed_out_at) select change, $2, $3, $5 from reached
