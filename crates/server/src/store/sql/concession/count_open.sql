select count(*) from concession where ended_at is null and is_approved is not false and until_at > $1
