update sweep set stopped_at = $1, stopped_by = $2 where stopped_at is null and ends_at > $1
