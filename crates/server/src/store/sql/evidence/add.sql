insert into evidence (question, formats, because, asked_by, asked_at) values ($1, $2, $3, $4, $5) returning no
