-- A fleet of :nodes nodes with :days days behind it, made from the rows of the one real node that is there. Every node checked
-- in and ran each quarter of an hour; a spell of equal runs was ended by something about every :spell days; three nodes of
-- 100 a day had a run in which something happened. Of 1,000 nodes ten are silent, five late, and 35 out of line.
\set ON_ERROR_STOP on
create table made as
    select n, gen_random_uuid() as id, (array['auken', 'brisk', 'eldrey', 'gannet', 'tern'])[1 + n % 5] as site, 1 + n / 5 as number,
        coalesce((array['failed', 'unmet'])[n % 1000], case when n % 1000 < 23 then 'drift_found' when n % 1000 < 36 then 'rollout_waiting' else 'in_line' end) as status,
        case when n % 1000 between 500 and 509 then 'silent' when n % 1000 between 600 and 604 then 'late' else 'on_time' end as last_contact
    from generate_series(1, :nodes) as n;
create table model as select node.* from node limit 1;

insert into node (id, name, labels, about, joined_at)
    select made.id, format('kiosk-%s-%s', site, number + 1000), jsonb_set(labels, '{site}', to_jsonb(site)), about, now() - make_interval(days => :days) from made, model;
insert into node_life (node, from_at) select no, joined_at from node on conflict (node) where until_at is null do nothing;
insert into change_node (change, node, state, placement, is_new, taken_at)
    select w.change, made.id, w.state, w.placement, true, now() from made, node_wanted w join model on w.node = model.id;
insert into examined_state (node, state, from_at, learned_at)
    select node.no, w.state, now() - make_interval(days => :days), now() - make_interval(days => :days)
    from made join node on node.id = made.id cross join node_wanted w join model on w.node = model.id;
insert into node_key (spki_digest, node, certificate, ends_at, issued_at)
    select sha256(made.id::text::bytea), made.id, certificate, ends_at, issued_at from made, node_key k join model on k.node = model.id;
insert into node_attribute (node, name, value, from_at, learned_at)
    select made.id, node_attribute.name, case node_attribute.name when 'labels' then jsonb_set(value, '{site}', to_jsonb(site)) else value end, now() - make_interval(days => :days), now() - make_interval(days => :days)
    from made, node_attribute join model on node_attribute.node = model.id where until_at is null;
insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
    select 'made', stage, groups, 'observe', jsonb_set(settings, '{mode}', '"observe"'), 'made', overdue_secs
    from placement p join node_wanted w on w.placement = p.id join model on w.node = model.id;
insert into node_wanted (node, state, placement, sources, change, epoch, counter, state_since, settings_since)
    select made.id, state, case when n % 10 = 0 then (select id from placement where digest = 'made') else placement end, sources, change, epoch,
        nextval('generation_counter'), now() - make_interval(days => :days), now() - make_interval(days => :days)
    from made, node_wanted w join model on w.node = model.id;
insert into heard (node, first_at, last_at, count, largest_gap_ms, promised_at, clock_off_ms)
    select made.id, now() - make_interval(days => (part + 1) * :spell), now() - make_interval(days => part * :spell), :spell * 96, 900000,
        now() - make_interval(days => part * :spell) + interval '15 min', 12
    from made, generate_series(:days / :spell - 1, 0, -1) as part;
insert into run_span (node, state, mode, status, first_at, last_at, count, largest_gap_ms, first_learned_at, last_learned_at, largest_delay_ms)
    select made.id, state, s.mode, s.status, now() - make_interval(days => (part + 1) * :spell), now() - make_interval(days => part * :spell), :spell * 96, 905000,
        now() - make_interval(days => (part + 1) * :spell), now() - make_interval(days => part * :spell), 40
    from made, generate_series(:days / :spell - 1, 0, -1) as part, (select run_span.* from run_span join model on run_span.node = model.id where run_span.found is null order by run_span.id desc limit 1) s;
insert into node_now (node, memory_epoch, sequence, span, full_status, full_state, full_began, full_run, full_learned, overdue_at, ran_at, known_until, known_learned, overdue_secs, open_episodes, mark, mark_before,
        has_epoch, has_counter, has_state, heard_span, heard_at, promised_at, on_time_until, silent_after, clock_off_ms, attributes_digest)
    select made.id, gen_random_uuid(), :days * 96, case when status = 'in_line' then s.id end, status, full_state, at, gen_random_uuid(), at, at + interval '46 min', at, at + interval '46 min', at, w.overdue_secs,
        (status = 'drift_found')::int, gen_random_uuid(), gen_random_uuid(), has_epoch, has_counter, has_state, h.id, at, at + interval '15 min',
        at + interval '16.5 min', at + interval '45 min', 12, attributes_digest
    from made cross join node_now w join model on w.node = model.id
        cross join lateral (select now() - random() * interval '60 s' - case last_contact when 'silent' then interval '3 hours' when 'late' then interval '20 min' else interval '0' end as at) as moment
        join (select node, max(id) as id from heard group by node) h on h.node = made.id join (select node, max(id) as id from run_span group by node) s on s.node = made.id;
insert into node_exception (node, name, address, severity, outcome, message, since, run)
    select made.id, name, case status when 'drift_found' then 'file:/etc/issue' when 'failed' then 'package:openssh-server' when 'unmet' then 'probe:quay-clock' else 'file:/etc/kiosk/' || n % 7 || '.conf' end,
        'high', case status when 'drift_found' then 'drifted' when 'rollout_waiting' then 'waiting' else status end, 'its node only observes', now() - interval '5 hours', gen_random_uuid()
    from made join node on node.id = made.id where status <> 'in_line';
insert into deviation (node, desired, cause, from_at, learned_at, run)
    select node.no, d.id, case status when 'unmet' then 'needs_person' when 'drift_found' then 'drift' when 'rollout_waiting' then 'waiting' else status end,
        now() - interval '5 hours', now() - interval '5 hours', gen_random_uuid()
    from node_exception e join made on made.id = e.node join node on node.id = e.node join clause_address a on a.address = e.address join desired_clause d on d.address = a.id;
insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run, learned_at)
    select id, 'file:/etc/issue', 'high', 'w1:0', at, at + interval '15 min', gen_random_uuid(), at + interval '15 min', 'corrected', gen_random_uuid(), at + interval '15 min'
    from made, generate_series(1, :days) as day, lateral (select now() - day * interval '1 day' + random() * interval '1 day' as at) as moment where (n + day) % 100 < 3;
select format('create table if not exists run_%s partition of run for values from (%L) to (%L)', to_char(month, 'YYYY_MM'), month, month + interval '1 month')
    from generate_series(date_trunc('month', now() - make_interval(days => :days)), date_trunc('month', now()), interval '1 month') as month \gexec
insert into run (node, run, began, mode, status, partial, state, report, texts, learned_at)
    select made.id, gen_random_uuid(), at, r.mode, 'drift_corrected', false, r.state, r.report, r.texts, at
    from made, generate_series(1, :days) as day, (select run.* from run join model on run.node = model.id limit 1) r,
        lateral (select now() - day * interval '1 day' + random() * interval '1 day' as at) as moment where (n + day) % 100 < 3;
drop table made, model;
vacuum analyze;
checkpoint;
