with silent as (
    update node_now n set silence_noted = n.heard_at
        from (select n.node from node_now n
                where $1 > n.silent_after and n.silence_noted is distinct from n.heard_at and n.heard_at is not null and not n.is_refused
                    and (select $1 - coalesce(sum(until_at - greatest(from_at, n.heard_at)), interval '0') > n.silent_after from server_down where until_at > n.heard_at)
                limit 5000 for update of n skip locked) found
        where n.node = found.node returning n.node, n.heard_at)
insert into event (xid_epoch, kind, node, subject, detail, at)
    select fleet.xid_epoch, 'silent', node.id, node.name, jsonb_build_object('kind', 'silent', 'last_contact', silent.heard_at), $1
        from silent join node on node.id = silent.node and node.retired_at is null, fleet
