select (min(from_at) at time zone 'UTC')::date from node_life
