update change set impact = $2 where no = $1
