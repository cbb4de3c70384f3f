select change from rollout where ended_at is null and status = 'going' order by change
