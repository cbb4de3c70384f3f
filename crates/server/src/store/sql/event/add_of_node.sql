insert into event (xid_epoch, kind, node, subject, detail, at)
    select fleet.xid_epoch, new.detail ->> 'kind', node.id, node.name, new.detail, $3
        from unnest($2::jsonb[]) with ordinality as new (detail, place), node, fleet where node.id = $1 order by new.place
