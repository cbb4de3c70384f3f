select node from sweep_node where sweep = $1 and done_at is null and refused is null
