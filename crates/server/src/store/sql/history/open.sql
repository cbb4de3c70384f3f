select desired, id, cause from deviation where node = $1 and until_at is null
