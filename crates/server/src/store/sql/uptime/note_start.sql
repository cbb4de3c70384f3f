insert into server_down (from_at, until_at) select last_at, $2 from server_alive where last_at < $2::timestamptz - make_interval(secs => $1)
