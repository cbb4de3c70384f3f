select f.began_at, f.until_at, f.was_waiting, f.run_told as run, n.heard_at, n.promised_at
    from followed f join node_now n on n.node = f.node where f.node = $1
