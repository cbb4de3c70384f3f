//! What is too old is deleted, and nothing that is still needed.

use crate::database::Database;
use constans_server::jobs::chain_of_days::chain_next;
use constans_server::jobs::day_figures::bring_up_to_date;
use constans_server::jobs::retention::{DaysKept, delete_old};
use constans_server::store::{change, retention};

/// A node with a deviation, a gap, a span of runs, one of check-ins, an episode and a name for each of the last 70 days, each of which
/// lasted an hour; and a deviation that is open since the first of them.
const PAST: &str = "
update node_life set from_at = date_trunc('day', now()) - interval '70 days';
insert into clause_address (address) values ('file:/etc/gate/tariff.conf');
insert into desired_clause (address, wanted) values (1, 's2:tariff');
create temporary table day as select n, date_trunc('day', now()) - make_interval(days => n) + interval '12 hours' as at from generate_series(1, 70) as n;
insert into deviation (node, desired, cause, from_at, learned_at, until_at, until_learned_at, run)
    select 1, 1, 'drift', at, at, at + interval '1 hour', at + interval '1 hour', gen_random_uuid() from day;
insert into desired_clause (address, wanted) values (1, 's2:other');
insert into deviation (node, desired, cause, from_at, learned_at, run) select 1, 2, 'drift', at, at, gen_random_uuid() from day where n = 70;
insert into examination_gap (node, from_at, until_at, learned_at, until_learned_at) select 1, at, at + interval '1 hour', at, at + interval '1 hour' from day;
insert into deviation_doubt (node, desired, from_at, until_at, learned_at) select 1, 1, at, at + interval '1 hour', at + interval '1 hour' from day;
insert into run_span (node, state, mode, status, first_at, last_at, count, largest_gap_ms, first_learned_at, last_learned_at, largest_delay_ms)
    select id, 's1:x', 'enforce', 'in_line', at, at + interval '1 hour', 4, 1, at, at + interval '1 hour', 1 from day, node;
insert into heard (node, first_at, last_at, count, largest_gap_ms, promised_at, clock_off_ms) select id, at, at + interval '1 hour', 4, 1, at, 0 from day, node;
insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run, learned_at, closed_learned_at)
    select id, 'file:/etc/gate/tariff.conf', 'high', 's2:tariff', at, at, gen_random_uuid(), at + interval '1 hour', 'corrected', gen_random_uuid(), at, at + interval '1 hour' from day, node;
insert into related_records (node, run, address, body, learned_at) select id, gen_random_uuid(), 'file:/etc/gate/tariff.conf', '{}', at from day, node;
insert into report_text (digest, body, added_at) select 'sha256:' || n, 'x', at from day;
insert into job (kind, change, evidence, what, who, queued_at, ended_at)
    select 'evidence', null, e.no, 'evidence', 'pia.lund', at, null from day cross join (select no from evidence limit 1) e;
";

fn days_kept(history: u32) -> DaysKept {
    DaysKept { history, related_records: 5 }
}

#[tokio::test]
async fn after_70_days_only_what_the_last_10_need_is_there() {
    let database = Database::fresh().await;
    database.node("gate-auken-1").await;
    database.run("insert into evidence (question, formats, asked_by, asked_at) values ('{}', '{}', 'pia.lund', now())").await;
    database.run(PAST).await;
    database
        .run("do $$ declare month date; begin for back in 0..3 loop month := date_trunc('month', now()) - make_interval(months => back);
            execute format('create table if not exists %I partition of run for values from (%L) to (%L)', to_char(month, '\"run_\"YYYY_MM'), month, month + interval '1 month'); end loop; end $$")
        .await;
    let count = async |table: &str| database.value::<i64>(&format!("select count(*) from {table}")).await;
    let named = count("related_records").await;
    let deleted = delete_old(&database.pool, days_kept(10)).await.unwrap();
    let left = count("related_records").await;
    assert!((4..=5).contains(&left), "what names people is kept for its own, shorter time: {left}");
    assert_eq!(i64::try_from(deleted), Ok(named - left), "nothing else is deleted before it is chained");
    while chain_next(&database.pool).await.unwrap() > 0 {}
    assert_eq!(
        delete_old(&database.pool, days_kept(10)).await.unwrap(),
        0,
        "nor before the figures of its days are kept"
    );
    while bring_up_to_date(&database.pool).await.unwrap() > 0 {}
    database.run("update job set ended_at = queued_at - interval '80 days'").await;

    assert!(delete_old(&database.pool, days_kept(10)).await.unwrap() > 6 * 59);
    // Of the last ten days and of today, which is not over; one may have come with midnight.
    for table in ["examination_gap", "deviation_doubt", "run_span", "heard", "episode"] {
        let rows = count(table).await;
        assert!((10..=11).contains(&rows), "{table}: {rows}");
    }
    assert_eq!(count("deviation where until_at is null").await, 1, "what is open stays, however old");
    assert_eq!(count("job where ended_at < now() - interval '91 days'").await, 0);
    let texts = count("report_text").await;
    assert!((10..=42).contains(&texts), "{texts}: of months that were dropped, and of the day before it");
    let days = count("learned_day where leaves is not null").await;
    assert!((59..=60).contains(&days), "{days}");
    assert_eq!(count("day_figure").await, 70, "figures of days stay");
    let oldest = database
        .value::<String>(
            "select min(relname::text) from pg_class where relname like 'run\\_20%' and relkind = 'r'",
        )
        .await;
    let kept = retention::last_deleted(&database.pool).await.unwrap().unwrap();
    assert_eq!(oldest, format!("run_{}", kept.strftime("%Y_%m")), "months before are dropped");
    assert_eq!(delete_old(&database.pool, days_kept(10)).await.unwrap(), 0, "once");

    // Whoever alters a day keeps it from being deleted.
    database.run("update deviation set from_at = from_at - interval '1 minute' where id = (select max(id) from deviation where until_at is not null)").await;
    let before = count("deviation").await;
    delete_old(&database.pool, days_kept(2)).await.unwrap();
    let altered = database
        .value::<i64>(
            "select count(*) from deviation where until_at is not null and from_at::time <> '12:00'",
        )
        .await;
    assert_eq!(altered, 1);
    assert!(count("deviation").await <= before);
}

/// Two nodes that were given states 80 days ago, the first one with the clauses 1 and 2, the other with 2 and 3, each with its contents.
const TWO_NODES: &str = "
insert into person (name, roles, created_at) values ('pia.lund', '{}', now());
insert into clause_address (address) select 'file:/etc/gate/' || n from generate_series(1, 3) as n;
insert into desired_clause (address, wanted) select id, 'w1:' || id from clause_address;
insert into clause (digest, body, desired, severity, satisfies, baselines, releases, is_counted)
    select 'c1:' || id, '{}', id, 'high', '{}', '{}', '{}', true from desired_clause;
insert into content (name, bytes, added_at) select 'sha256:' || n, 'x', now() - interval '80 days' from generate_series(1, 5) as n;
insert into content (name, bytes, added_at) values ('sha256:uploaded', 'x', now());
insert into clause_content (name, clause) select 'sha256:' || id, id from clause;
insert into release (kit, version, digest, summary, requires, files, published_by, published_at)
    values ('gate-reader', '2.1.0', 'k1:x', '', '{}', '[[\"kit.toml\", \"sha256:4\"]]', 'pia.lund', now());
insert into effective_state (digest, clauses, releases, made_at)
    select 's2:' || n, (select array_agg(id order by id) from clause where id in (n, n + 1)), '{}', now() - interval '80 days' from generate_series(1, 2) as n;
update node_life set from_at = now() - interval '90 days';
insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs) values ('p', 'harbour', '[]', 'enforce', '{}', 'g1:0', 900);
insert into change (kind, what, who, status, epoch, drafted_at, ended_at, edits) values ('group', 'gates', 'pia.lund', 'handed_out', 1, now() - interval '80 days', now() - interval '80 days', '[]');
insert into change_node (change, node, state, placement, is_new) select c.no, node.id, s.id, p.id, true from change c, placement p, node join effective_state s on s.digest = 's2:' || node.no;
insert into examined_state (node, state, from_at, learned_at) select node.no, c.state, now() - interval '79 days', now() - interval '79 days' from change_node c join node on node.id = c.node;
insert into deviation (node, desired, cause, from_at, learned_at, run) select no, no + 1, 'drift', now() - interval '78 days', now() - interval '78 days', gen_random_uuid() from node;
";

#[tokio::test]
async fn what_is_kept_of_a_node_that_left_long_ago_goes_with_what_only_it_had() {
    let database = Database::fresh().await;
    for name in ["gate-auken-1", "gate-auken-2"] {
        database.node(name).await;
    }
    database.run(TWO_NODES).await;
    let mut connection = database.connection().await;
    let before = constans_server::clock::now() - jiff::SignedDuration::from_hours(24 * 10);
    let list = async |sql: &str| {
        database
            .value::<Vec<String>>(&format!(
                "select coalesce(array_agg(x::text order by 1), '{{}}') from ({sql}) as t (x)"
            ))
            .await
    };
    assert_eq!(retention::delete_of_left(&mut connection, before).await.unwrap(), 0, "both are of the fleet");
    database.run("update node set retired_at = now() - interval '5 days' where no = 2; update node_life set until_at = now() - interval '5 days' where node = 2").await;
    assert_eq!(
        retention::delete_of_left(&mut connection, before).await.unwrap(),
        0,
        "it was of it ten days ago"
    );
    database.run("update node set retired_at = now() - interval '50 days' where no = 2; update node_life set until_at = now() - interval '50 days' where node = 2").await;
    database
        .run("insert into node_life (node, from_at, until_at) values (2, now() - interval '40 days', null)")
        .await;
    assert_eq!(retention::delete_of_left(&mut connection, before).await.unwrap(), 0, "it came back");
    database.run("delete from node_life where node = 2 and until_at is null").await;
    assert_eq!(retention::delete_of_left(&mut connection, before).await.unwrap(), 1);
    assert_eq!(retention::delete_of_left(&mut connection, before).await.unwrap(), 0, "once");
    for table in ["deviation", "examined_state"] {
        assert_eq!(list(&format!("select node from {table}")).await, ["1"], "{table}");
    }
    assert_eq!(list("select n.no from change_node c join node n on n.id = c.node").await, ["1"]);

    assert_eq!(retention::note_unused_states(&mut connection, before).await.unwrap(), 1);
    assert!(change::has_dropped_states(&mut connection).await.unwrap());
    assert_eq!(change::forget_dropped_states(&mut connection).await.unwrap(), 1);
    assert_eq!(list("select digest from effective_state").await, ["s2:1"]);
    assert_eq!(list("select digest from clause").await, ["c1:1", "c1:2"]);
    let contents = list("select name from content").await;
    assert_eq!(
        contents,
        ["sha256:1", "sha256:2", "sha256:4", "sha256:uploaded"],
        "those of clauses, of a release, and what just came"
    );
}
