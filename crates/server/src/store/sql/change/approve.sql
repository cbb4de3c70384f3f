update change set status = 'waiting', is_preview = false, confirmed = $2, approved_by = $3, rollout = coalesce($4, rollout), ended_at = null
    where no = $1 and status = 'requested' and who <> $3
