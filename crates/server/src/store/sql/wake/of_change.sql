select node from change_node where change = $1 and is_new and taken_at is null
