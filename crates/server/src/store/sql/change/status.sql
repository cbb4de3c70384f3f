select status from change where no = $1
