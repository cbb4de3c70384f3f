update concession set decided_by = $2, is_approved = $3, decided_because = $4, decided_at = $5
    where no = $1 and decided_at is null and ended_at is null and until_at > $5
