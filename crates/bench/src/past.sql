-- Copies every node of a fleet, with its whole past, so that each is there :copies times.
\set ON_ERROR_STOP on
set synchronous_commit = off;
create table copied as
    select node.id as old_id, node.no as old_no, gen_random_uuid() as new_id, copy from node, generate_series(1, :copies - 1) as copy;

-- The rows of each table are numbered apart for each copy.
create table step (name text primary key, step bigint);

-- Copies the rows of a table that belong to a node. `refers` names the tables by whose rows a column is numbered.
create function copy_rows(copied_table text, refers jsonb) returns void language plpgsql as $$
declare
    own text;
    is_number boolean;
    columns text;
    wanted text;
begin
    select column_name into own from information_schema.columns where table_name = copied_table and is_identity = 'YES';
    if own is not null then
        execute format('insert into step select %L, coalesce(max(%I), 0) + 1 from %I', copied_table, own, copied_table);
        refers := refers || jsonb_build_object(own, copied_table);
    end if;
    select data_type = 'integer' into is_number from information_schema.columns where table_name = copied_table and column_name = 'node';
    select string_agg(quote_ident(column_name), ', ' order by ordinal_position),
            string_agg(case
                when column_name = 'node' and is_number then 'new.no'
                when column_name = 'node' then 'c.new_id'
                when column_name = 'spki_digest' then 'sha256(c.new_id::text::bytea || t.spki_digest)'
                when refers ? column_name then format('t.%I + c.copy * (select step from step where name = %L)', column_name, refers ->> column_name)
                else format('t.%I', column_name) end, ', ' order by ordinal_position)
        into columns, wanted from information_schema.columns where table_name = copied_table and is_generated = 'NEVER';
    execute format('insert into %I (%s) overriding system value select %s from %I t join copied c on t.node = %s join node new on new.id = c.new_id',
        copied_table, columns, wanted, copied_table, case when is_number then 'c.old_no' else 'c.old_id' end);
    if own is not null then
        execute format('select setval(pg_get_serial_sequence(%L, %L), (select max(%I) from %I))', copied_table, own, own, copied_table);
    end if;
end $$;

insert into node (id, name, labels, about, joined_at, revoked_at, retired_at)
    select new_id, format('%s-%s', name, copy), labels, about, joined_at, revoked_at, retired_at from node join copied on old_id = node.id;
select copy_rows(name, refers) from (values
    (1, 'node_key', '{}'::jsonb), (2, 'node_life', '{}'), (3, 'node_attribute', '{}'), (4, 'change_node', '{}'), (5, 'node_wanted', '{}'),
    (6, 'heard', '{}'), (7, 'run_span', '{}'), (8, 'node_now', '{"span": "run_span", "heard_span": "heard"}'),
    (9, 'examined_state', '{}'), (10, 'examined_clause', '{}'), (11, 'deviation', '{}'), (12, 'deviation_doubt', '{}'),
    (13, 'examination_gap', '{}'), (14, 'episode', '{}')
) as copied_tables (place, name, refers) order by place;
truncate day_figure;
insert into day_mark (day) select distinct from_at::date from node_life;
drop function copy_rows;
drop table copied, step;
vacuum analyze;
checkpoint;
