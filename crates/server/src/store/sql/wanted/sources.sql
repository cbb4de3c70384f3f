select s.body from node_wanted w join state_sources s on s.id = w.sources where w.node = $1
