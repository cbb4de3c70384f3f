insert into asset (name, fields) select * from unnest($1::text[], $2::jsonb[])
