insert into change_freeze (who, because, is_for_all, clauses, set_at, until_at) values ($1, $2, $3, $4, $5, $6) returning no
