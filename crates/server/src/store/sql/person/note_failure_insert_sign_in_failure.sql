insert into sign_in_failure (name, address, at) values ($1, $2, $3)
