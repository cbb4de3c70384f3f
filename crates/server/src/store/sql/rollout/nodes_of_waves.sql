select node from rollout_node where rollout = $1 and wave between $2 and $3
