update control_catalogue set until_at = $1 where until_at is null
