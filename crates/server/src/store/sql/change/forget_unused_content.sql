delete from content where added_at < $1 and name not in (select name from clause_content)
    and name not in (select file ->> 1 from release cross join jsonb_array_elements(release.files) as file)
