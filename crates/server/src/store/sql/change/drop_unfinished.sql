update change set status = 'dropped', ended_at = $1
    where status in ('unconfirmed', 'previewed') and ended_at < $1::timestamptz - interval '1 hour' or $2 and status in ('waiting', 'preparing', 'unconfirmed', 'previewed', 'requested')
    returning no
