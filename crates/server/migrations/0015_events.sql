-- What people did and what was noticed of nodes, written in the transaction in which it happened. The audit trail is what has a `who`; a
-- job chains its entries by digest in the order in which they were committed.

create table event (
    id        bigint generated always as identity primary key,
    at        timestamptz not null,
    who       text,
    did       text,
    subject   text not null,
    detail    jsonb not null default '{}',
    xid       xid8 not null default pg_current_xact_id(),
    -- Identities are committed out of order. Readers go on by (xid_epoch, xid, id), below the oldest transaction that is open.
    xid_epoch bigint not null,
    kind      text not null,
    -- No reference: nodes are never deleted, and a check would lock the node after its `node_now`.
    node      uuid,
    check (kind in ('act', 'handed_out', 'joined', 'revoked') and who is not null and did is not null and node is null
        or kind in ('drift_found', 'drift_ended', 'run_failed', 'run_recovered', 'silent', 'checked_in_again', 'duplicate_identity', 'certificate_ends')
            and who is null and did is null and node is not null)
);
create index event_in_order on event (xid_epoch, xid, id);
create index event_of_activity on event (id) where kind <> 'act';
create index event_of_any_node on event (id) where who is null;
create index event_of_audit on event (id) where who is not null;
create index event_of_node on event (node, id) where node is not null;
create index event_of_subject on event (subject, id);

create table audit_chain (
    place  bigint primary key,
    entry  bigint not null unique references event (id),
    digest text not null
);

-- What people did is only added to. What was noticed of nodes is removed when it is old.
create function only_added_to() returns trigger language plpgsql as $$
begin
    raise exception 'the audit trail is only added to';
end $$;
create trigger only_added_to before update or truncate on event for each statement execute function only_added_to();
create trigger acts_are_kept before delete on event for each row when (old.who is not null) execute function only_added_to();
create trigger only_added_to before update or delete or truncate on audit_chain for each statement execute function only_added_to();
