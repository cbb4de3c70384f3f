update node set own = new.own from unnest($1::uuid[], $2::jsonb[]) as new (id, own) where node.id = new.id and node.own <> new.own
