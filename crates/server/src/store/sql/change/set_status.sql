update change set status = $2, refused = $3, hint = $4, ended_at = $5 where no = $1
