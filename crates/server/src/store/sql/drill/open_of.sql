select no from drill where node = $1 and over_at is null and (told is not null or offered_until > $2) limit 1
