delete from token where digest = $1
