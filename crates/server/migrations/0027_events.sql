-- What people did and what was noticed of nodes is one table, written in the transaction in which it happened. The audit trail is
-- what has a `who`.
alter table audit_trail rename to event;
alter table audit_trail_pkey rename to event_pkey;
alter table audit_trail_of_subject rename to event_of_subject;

-- Identities are committed out of order. Readers go on by (xid_epoch, xid, id), below the oldest transaction that is open; the epoch
-- rises when the database was restored or moved, as the numbers of transactions are another database's then.
alter table fleet add column xid_epoch bigint not null default 1;
alter table event disable trigger only_added_to;
alter table event
    add column xid_epoch bigint not null default 1,
    add column kind text not null default 'act',
    -- No reference: nodes are never deleted, and a check would lock the node after its `node_now`.
    add column node uuid,
    alter column who drop not null,
    alter column did drop not null;
update event set kind = case when did = 'handed out a change' then 'handed_out' when did = 'revoked' then 'revoked' else 'joined' end
    where did in ('handed out a change', 'revoked', 'approved', 'approved again');
alter table event
    alter column xid_epoch drop default,
    alter column kind drop default,
    add check (kind in ('act', 'handed_out', 'joined', 'revoked')
        and who is not null and did is not null and node is null
        or kind in ('drift_found', 'drift_ended', 'run_failed', 'run_recovered', 'silent', 'checked_in_again', 'duplicate_identity', 'certificate_ends')
        and who is null and did is null and node is not null);
create index event_in_order on event (xid_epoch, xid, id);
create index event_of_audit on event (id) where who is not null;
create index event_of_activity on event (id) where kind <> 'act';
create index event_of_node on event (node, id) where node is not null;
create index event_of_any_node on event (id) where who is null;

-- What people did is only added to. What was noticed of nodes is removed when it is old.
drop trigger only_added_to on event;
create trigger only_added_to before update or truncate on event for each statement execute function only_added_to();
create trigger acts_are_kept before delete on event for each row when (old.who is not null) execute function only_added_to();

-- The last contact of a node whose silence is noted, and whether it is noted that a certificate ends.
alter table node_now add column silence_noted timestamptz;
alter table node_key add column ending_noted boolean not null default false;
create index node_key_not_noted on node_key (ends_at) where revoked_at is null and not ending_noted;
