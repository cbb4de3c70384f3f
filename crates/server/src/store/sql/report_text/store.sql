insert into report_text (digest, body, added_at) select *, $3 from unnest($1::text[], $2::text[]) on conflict do nothing
