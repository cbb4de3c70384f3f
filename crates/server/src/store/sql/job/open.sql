select what, who, done, total, queued_at from job where ended_at is null order by id limit 100
