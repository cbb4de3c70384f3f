select count(*) from change_freeze where ended_at is null and until_at > $1
