insert into admission_machine (rule, name, body) select $1, new.name, new.body from unnest($2::text[], $3::jsonb[]) as new (name, body)
