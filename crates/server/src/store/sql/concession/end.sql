update concession set ended_by = $2, ended_because = $3, ended_at = $4
    where no = $1 and ended_at is null and is_approved is not false and until_at > $4
