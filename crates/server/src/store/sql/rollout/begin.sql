insert into rollout (change, plan, waves, status, began_at) values ($1, $2, $3, 'going', $4)
