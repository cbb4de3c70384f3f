select exists (select 1 from change where kind = $1 and status in ('waiting', 'preparing'))
