-- A node whose certificate ended while it was away may ask again with the key that it has, without an invitation.

alter table joining_request alter column invitation drop not null;
alter table joining_request add column known_node uuid references node (id);
alter table joining_request drop constraint joining_request_spki_digest_key;
create unique index joining_request_open on joining_request (spki_digest) where decision is null;
create index joining_request_of_key on joining_request (spki_digest, requested_at desc);
