insert into stage (name, second_person, place) select * from unnest($1::text[], $2::boolean[]) with ordinality as new (name, second_person, place)
