update rollout set status = 'going', halted_because = null, halted_by = null, halted_at = null,
        accepted = case when $2 then reached else accepted end
    where change = $1 and ended_at is null
