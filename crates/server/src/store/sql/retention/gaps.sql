delete from examination_gap where ctid in (select ctid from examination_gap where until_learned_at < $1 and until_at < $1 limit $2)
