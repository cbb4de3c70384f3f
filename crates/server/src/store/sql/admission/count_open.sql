select count(*) from admission_rule where ended_at is null and until_at > $1
