select address, body from related_records where node = $1 and run = $2
