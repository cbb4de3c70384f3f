insert into wake (at, who, because) values ($1, $2, $3) returning no
