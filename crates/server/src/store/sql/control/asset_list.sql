select l.set_by, l.set_at, (select count(*) from asset) as assets,
        (select count(*) from asset a where not exists (select 1 from node n where n.name = a.name and n.retired_at is null and n.revoked_at is null)) as never_enrolled,
        (select count(*) from node n where n.retired_at is null and n.revoked_at is null and not exists (select 1 from asset a where a.name = n.name)) as not_listed
    from asset_list l
