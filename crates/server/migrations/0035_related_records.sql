-- What nodes had on record of the time in which something drifted. It names people: it stands apart from reports and is kept for less
-- long.
create table related_records (
    node       uuid not null references node (id),
    run        uuid not null,
    address    text not null,
    body       jsonb not null,
    learned_at timestamptz not null,
    primary key (node, run, address)
);
create index related_records_learned on related_records (learned_at);
create index report_text_added on report_text (added_at);
