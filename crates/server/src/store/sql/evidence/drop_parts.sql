delete from evidence_part where evidence = $1
