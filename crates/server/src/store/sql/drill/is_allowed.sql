select node.labels ->> $2 = $3 from node where id = $1
