//! What is too old is deleted, and nothing that is still needed.

use crate::database::Database;
use constans_server::jobs::chain_of_days::chain_next;
use constans_server::jobs::day_figures::bring_up_to_date;
use constans_server::jobs::retention::{DaysKept, delete_old};
use constans_server::store::retention;

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
