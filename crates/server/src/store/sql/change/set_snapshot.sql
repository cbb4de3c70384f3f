update change set snapshot = $2 where no = $1
