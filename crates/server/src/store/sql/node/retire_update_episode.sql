update episode set closed_at = greatest($2, detected_at), closed_as = 'retired', closed_learned_at = $2 where node = any($1) and closed_at is null
