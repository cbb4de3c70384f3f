select full_run, full_state from node_now where node = $1 and full_run is not null
