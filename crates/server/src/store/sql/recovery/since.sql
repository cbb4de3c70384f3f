select since from recovery where ended_at is null
