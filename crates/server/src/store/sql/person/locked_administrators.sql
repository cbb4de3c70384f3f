select name from person where 'administrator' = any(roles) order by name for update
