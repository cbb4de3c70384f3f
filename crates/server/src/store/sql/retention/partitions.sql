select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = 'run'::regclass and c.relname < $1 order by c.relname
