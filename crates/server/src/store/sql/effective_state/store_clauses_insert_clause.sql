insert into clause (digest, body, desired, severity, satisfies, baselines, releases, is_counted)
    select new.digest, new.body, d.id, new.body ->> 'severity',
        array(select json_array_elements_text(new.body -> 'satisfies')),
        array(select distinct (o ->> 'kit') || '/' || (o ->> 'baseline') from json_array_elements(new.body -> 'origins') o order by 1),
        array(select distinct (o ->> 'kit') || '@' || (o ->> 'version') from json_array_elements(new.body -> 'origins') o order by 1), new.is_counted
    from (select digest, body::json as body, is_counted from unnest($1::text[], $2::text[], $3::boolean[]) as b (digest, body, is_counted)) new
        join desired_clause d on d.wanted = new.body ->> 'wanted'
    order by new.digest on conflict (digest) do nothing
