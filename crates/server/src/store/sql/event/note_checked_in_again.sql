with heard as (
    update node_now n set silence_noted = null
        from (select node, silence_noted from node_now where silence_noted is not null and heard_at > silence_noted limit 5000 for update skip locked) found
        where n.node = found.node returning n.node, found.silence_noted as silent_since)
insert into event (xid_epoch, kind, node, subject, detail, at)
    select fleet.xid_epoch, 'checked_in_again', node.id, node.name, jsonb_build_object('kind', 'checked_in_again', 'silent_since', heard.silent_since), $1
        from heard join node on node.id = heard.node and node.retired_at is null, fleet
