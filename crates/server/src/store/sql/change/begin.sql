update change set status = 'preparing', base_rev = $2, epoch = $3, snapshot = $4 where no = $1
