select setval('generation_counter', $1)
