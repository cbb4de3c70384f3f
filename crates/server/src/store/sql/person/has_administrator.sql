select exists (select 1 from person where 'administrator' = any(roles))
