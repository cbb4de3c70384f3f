select exists (select from change where status in ('waiting', 'preparing') and who = $1 and kind in ('node', 'group'))
