select name, octet_length(bytes)::bigint from content where name = any($1)
