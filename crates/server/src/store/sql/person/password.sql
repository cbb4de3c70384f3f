select password from person where name = $1
