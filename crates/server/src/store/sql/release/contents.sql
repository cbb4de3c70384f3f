select name, bytes from content where name = any($1)
