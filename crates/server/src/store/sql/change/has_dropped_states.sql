select exists (select 1 from dropped_state) and not exists (select 1 from job where ended_at is null)
    and not exists (select 1 from change where status in ('waiting', 'preparing', 'previewed', 'unconfirmed'))
