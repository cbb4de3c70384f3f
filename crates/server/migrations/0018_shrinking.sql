-- What people make can be listed and ended: tokens have an id and a name, invitations are withdrawn, persons are removed. A person
-- who was removed stays in the record of what they did.

alter table token
    add column id uuid not null default gen_random_uuid() unique,
    add column name text not null default '',
    add column last_at timestamptz;
alter table token alter column id drop default, alter column name drop default;
update token set made_for = 'program' where made_for is null;
alter table token alter column made_for set not null;
create index token_of_person on token (person);

alter table person add column removed_at timestamptz;

alter table invitation
    add column uses integer not null default 1,
    add column withdrawn_at timestamptz,
    add column withdrawn_by text references person (name);
update invitation set uses = greatest(uses_left, 1);
alter table invitation alter column uses drop default;
