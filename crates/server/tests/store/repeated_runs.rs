//! Deviations that a run finds again: counted, not stored again, until something is different.

use crate::database::Database;
use constans_core::digest::of_value;
use constans_server::intake::report::{plain, take_in};
use constans_server::store::run;
use constans_wire::report::RunReport;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

const EPOCH: Uuid = Uuid::from_u128(7);

fn report(sequence: u64, change: &Value) -> RunReport {
    let mut clause = json!({
        "address": "file:/etc/issue", "severity": "high", "origins": [], "wanted": of_value("w1", &1), "found": of_value("f1", &2),
        "verdict": "different", "cause": "drift", "decision": { "due": "leave", "why": { "reason": "on_drift", "from": "clause" } },
        "outcome": "out_of_line", "took_us": 10 + sequence,
    });
    clause.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
    let now = constans_server::clock::now();
    clause["drift_window"] = json!({ "from": now - SignedDuration::from_hours(1), "to": now });
    serde_json::from_value(json!({
        "form": 1, "run": Uuid::now_v7(), "machine": "kiosk-auken-1", "agent": "0.1.0",
        "wanted": { "digest": of_value("s2", &1), "releases": [] }, "mode": "enforce", "started_by": "interval", "began": now, "took_us": 1,
        "memory_epoch": EPOCH, "sequence": sequence, "status": "drift_found",
        "counts": { "in_line": 0, "corrected": 0, "out_of_line": 1, "blocked": 0, "failed": 0, "unsupported": 0, "idle": 0 }, "clauses": [clause],
    }))
    .unwrap()
}

/// Has the server take a report in, all at once with those of others if that is possible, and returns whether it was.
async fn deliver(database: &Database, node: Uuid, report: &RunReport) -> bool {
    let mut connection = database.connection().await;
    let equal = plain(report, node, node.as_bytes().to_vec());
    let at_once = run::lengthen_plain(&mut connection, &Vec::from_iter(equal)).await.unwrap();
    if at_once.is_empty() {
        let bytes = serde_json::to_vec(report).unwrap();
        take_in(&mut connection, node, report.clone(), &bytes).await.unwrap();
    }
    !at_once.is_empty()
}

#[tokio::test]
async fn a_deviation_that_is_found_again_is_counted_and_not_stored_again() {
    let database = Database::fresh().await;
    let node = database.node("kiosk-auken-1").await;
    let today = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date().first_of_month();
    let next = today.last_of_month().tomorrow().unwrap();
    run::make_partition(&mut database.connection().await, today, next).await.unwrap();
    database
        .run(&format!(
            "insert into node_key (spki_digest, node, certificate, ends_at, issued_at) values ('\\x{}', '{node}', '', 'infinity', now());
             update node_now set overdue_secs = 2760, on_time_until = now() + interval '1 hour', heard_at = now()",
            node.simple()
        ))
        .await;
    let same = json!({});
    let first = report(1, &same);
    assert!(!deliver(&database, node, &first).await, "nothing is known of it yet");
    for sequence in 2..=5 {
        assert!(deliver(&database, node, &report(sequence, &same)).await, "run {sequence}");
    }
    let sent_again = report(5, &same);
    assert!(!deliver(&database, node, &sent_again).await, "it is known");
    let runs = run::of_node(&database.pool, node, None, 200).await.unwrap();
    let listed: Vec<_> = runs.iter().map(|run| (run.run, run.count, run.status.as_str())).collect();
    assert_eq!(listed, [(Some(first.run), 5, "drift_found")]);
    assert_eq!(database.value::<i64>("select count(*) from run").await, 1);
    assert_eq!(database.value::<Uuid>("select full_run from node_now").await, first.run, "it is kept whole");
    assert_eq!(database.value::<i64>("select sequence from node_now").await, 5);
    assert_eq!(database.value::<i32>("select open_episodes from node_now").await, 1);
    let kept = run::report(&database.pool, node, &first.run.to_string()).await.unwrap().unwrap();
    assert_eq!(kept.count, Some(5));

    let other_content = json!({ "found": of_value("f1", &3) });
    let changed = report(6, &other_content);
    assert!(!deliver(&database, node, &changed).await, "someone changed it again");
    assert!(deliver(&database, node, &report(7, &other_content)).await);
    database.run("update run_span set first_learned_at = first_learned_at - interval '8 days' where found is not null").await;
    let a_week_later = report(8, &other_content);
    assert!(!deliver(&database, node, &a_week_later).await, "it is kept whole once a week");
    let runs = run::of_node(&database.pool, node, None, 200).await.unwrap();
    let listed: Vec<_> = runs.iter().map(|run| (run.run, run.count)).collect();
    assert_eq!(listed, [(Some(a_week_later.run), 1), (Some(changed.run), 2), (Some(first.run), 5)]);
}
