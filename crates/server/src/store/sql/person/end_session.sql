delete from session where digest = $1
