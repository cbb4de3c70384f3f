update node_now set open_episodes = (select count(*) from episode where node = $1 and closed_at is null) where node = $1
