update release set withdrawn_at = $5, withdrawn_by = $3, withdrawn_because = $4
    where kit = $1 and version = $2 and withdrawn_at is null
