update recovery set ended_at = $2, ended_by = $1 where ended_at is null returning epoch
