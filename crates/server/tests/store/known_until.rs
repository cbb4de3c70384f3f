//! How long what a run found counts, when the interval of runs is changed: from when on the node knows of it.

use crate::database::Database;
use constans_core::node_status::Promise;
use constans_server::store::check_in::{self, NewCheckIn};
use constans_wire::check_in::{Generation, Held};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::Timestamp as SqlTimestamp;
use uuid::Uuid;

fn minutes(count: i64) -> SignedDuration {
    SignedDuration::from_mins(count)
}

/// The node checks in with what it was given last, and returns until when its last run counts.
async fn check_in(database: &Database, node: Uuid, heard_at: Timestamp) -> Timestamp {
    let counter: i64 = database.value("select counter from node_wanted").await;
    let new = NewCheckIn {
        node,
        promise: Promise { heard_at, next_at: heard_at + minutes(15) },
        clock_off_ms: 0,
        shown: None,
        given: Uuid::now_v7(),
        has: Some(Held {
            digest: serde_json::from_value(format!("s2:{}", "0".repeat(64)).into()).unwrap(),
            generation: Generation { epoch: 1, counter },
        }),
        attributes_digest: Vec::new(),
    };
    check_in::note(&mut database.connection().await, &new, None, false).await.unwrap();
    database.value::<SqlTimestamp>("select known_until from node_now").await.to_jiff()
}

async fn set_interval(database: &Database, overdue_mins: i64) {
    database
        .run(&format!(
            "insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
                 values ('{overdue_mins}', 'harbour', '[]', 'enforce', '{{}}', '', {overdue_mins} * 60);
             update node_wanted set counter = counter + 1, placement = (select id from placement where digest = '{overdue_mins}')"
        ))
        .await;
}

#[tokio::test]
async fn a_longer_interval_counts_from_the_last_run_and_a_shorter_one_from_when_the_node_knows_it() {
    let database = Database::fresh().await;
    let node = database.node("kiosk-auken-1").await;
    let ran_at: Timestamp = "2026-11-23T08:00:00Z".parse().unwrap();
    database
        .run(&format!(
            "insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
                 values ('46', 'harbour', '[]', 'enforce', '{{}}', '', 46 * 60);
             insert into node_wanted (node, placement, epoch, counter, settings_since) select '{node}', id, 1, 1, now() from placement;
             update node_now set overdue_secs = 46 * 60, ran_at = '{ran_at}', known_until = '{}', known_learned = '{ran_at}'",
            ran_at + minutes(46)
        ))
        .await;
    assert_eq!(check_in(&database, node, ran_at + minutes(10)).await, ran_at + minutes(46), "nothing is new");
    set_interval(&database, 600).await;
    assert_eq!(check_in(&database, node, ran_at + minutes(20)).await, ran_at + minutes(600));
    set_interval(&database, 16).await;
    let shortened = check_in(&database, node, ran_at + minutes(30)).await;
    assert_eq!(shortened, ran_at + minutes(46), "16 min after it learned of it");
    set_interval(&database, 700).await;
    let late = check_in(&database, node, ran_at + minutes(60)).await;
    assert_eq!(late, shortened, "what was unknown already stays so until the next run");
}
