with shown as (select * from unnest($1::uuid[], $2::bytea[], $3::timestamptz[]) as shown (node, spki, until_at))
insert into node_wake (node, waits_until)
    select shown.node, shown.until_at from shown join node on node.id = shown.node join node_key k on k.node = shown.node and k.spki_digest = shown.spki
    where node.revoked_at is null and node.retired_at is null and k.revoked_at is null order by shown.node
    on conflict (node) do update set waits_until = excluded.waits_until
    returning node, wake
