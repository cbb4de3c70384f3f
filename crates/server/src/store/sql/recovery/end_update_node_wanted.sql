update node_wanted set epoch = $1, counter = nextval('generation_counter')
