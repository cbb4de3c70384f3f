-- The states of nodes of one role differ in few clauses, such as one that names its node. Each clause is stored once for the
-- whole fleet, and a state is the list of its clauses.
create table clause (
    id     bigint generated always as identity primary key,
    digest text not null unique,
    body   json not null
);
-- The contents and sealed values that clauses name.
create table clause_content (
    name   text not null,
    clause bigint not null references clause (id),
    primary key (name, clause)
);
alter table effective_state add column clauses bigint[] not null default '{}';

create temporary table old_clause on commit drop as
    select s.digest as state, e.place, 'sha256:' || encode(sha256(convert_to(e.body::text, 'UTF8')), 'hex') as digest, e.body
    from effective_state s, jsonb_array_elements(s.body -> 'clauses') with ordinality as e (body, place);
insert into clause (digest, body) select distinct on (digest) digest, body::text::json from old_clause;
insert into clause_content (name, clause)
    select distinct named.name, clause.id
    from effective_state s cross join unnest(s.names) as named (name)
        join old_clause old on old.state = s.digest and position('"' || named.name || '"' in old.body::text) > 0
        join clause on clause.digest = old.digest;
update effective_state s
    set clauses = (select array_agg(clause.id order by old.place) from old_clause old join clause on clause.digest = old.digest where old.state = s.digest)
    where exists (select 1 from old_clause old where old.state = s.digest);

alter table effective_state alter column clauses drop default, drop column body, drop column names;
