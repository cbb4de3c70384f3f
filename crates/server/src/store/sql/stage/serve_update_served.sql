update served set until_at = $3 where stage = $1 and kit = $2 and until_at is null and superseded_at is null
