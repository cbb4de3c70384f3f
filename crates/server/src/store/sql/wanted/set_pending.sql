update node set input_pending = true where id = $1
