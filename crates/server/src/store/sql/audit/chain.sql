insert into audit_chain (place, entry, digest) select $1 + place - 1, entry, digest from unnest($2::bigint[], $3::text[]) with ordinality as new (entry, digest, place)
