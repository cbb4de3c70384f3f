select count(*) from change
    where who = $1 and is_request and status in ('waiting', 'preparing', 'previewed', 'unconfirmed', 'requested')
