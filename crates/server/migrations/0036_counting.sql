-- The state of a node that is known to be examined, so that most nodes need not be looked up in examined_state. Noted some seconds
-- later, and only believed where it is the state that is wanted.
alter table node_wanted add column examined_state bigint;
-- What is in doubt now, or was not over at a moment.
create index deviation_doubt_until on deviation_doubt (until_at);
create index node_gone on node (id) where retired_at is not null or revoked_at is not null;
