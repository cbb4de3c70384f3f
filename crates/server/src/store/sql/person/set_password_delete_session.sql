delete from session where person = $1
