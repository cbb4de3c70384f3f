update deviation set until_at = greatest($2, from_at), until_learned_at = $3 where id = any($1) and until_at is null
