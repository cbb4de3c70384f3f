insert into report_text (digest, body, added_at) select *, $3 from unnest($1::text[], $2::text[])
    on conflict (digest) do update set added_at = excluded.added_at where report_text.added_at < excluded.added_at - interval '1 day'
