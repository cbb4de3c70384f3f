select bytes from evidence_part where evidence = $1 and place = $2
