insert into evidence_part (evidence, place, bytes) values ($1, $2, $3)
