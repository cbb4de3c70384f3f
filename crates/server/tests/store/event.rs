//! Events: each noted once, read in the order in which they were committed, kept as long as they must be.

use crate::database::Database;
use constans_core::episode::ClosedAs;
use constans_server::clock::sql_now;
use constans_server::store::event::{self, EventChoice, EventCursor, EventRow};
use constans_server::store::narrowing::Narrowing;
use constans_server::store::{audit, fleet, node};
use constans_wire::node_event::{NamedClauses, NodeEvent};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx as _;
use serde_json::json;
use std::time::Duration;
use uuid::Uuid;

const ALL: EventChoice = EventChoice { node: None, with_acts: true };

fn found(address: &str) -> NodeEvent {
    NodeEvent::DriftFound { run: Uuid::nil(), clauses: NamedClauses::of([address.to_owned()]) }
}

fn kinds(rows: &[EventRow]) -> Vec<String> {
    rows.iter().map(|row| format!("{} {}", row.subject, row.kind)).collect()
}

/// Reads events after a place until there are this many: other tests on the same PostgreSQL may have transactions open.
async fn read(database: &Database, after: &EventCursor, count: usize) -> Vec<EventRow> {
    for _ in 0..200 {
        let rows = event::after(&database.pool, after, ALL, 100).await.unwrap();
        if rows.len() >= count {
            return rows;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("there are not {count} events after {after:?}");
}

#[tokio::test]
async fn a_reader_who_goes_on_from_the_last_place_misses_no_event_that_is_committed_late() {
    let database = Database::fresh().await;
    let (kiosk, gate) = (database.node("kiosk-auken-1").await, database.node("gate-auken-1").await);
    let mut early = database.pool.begin().await.unwrap();
    event::add_of_node(&mut *early, kiosk, &[found("file:/etc/issue")]).await.unwrap();
    event::add_of_node(&database.pool, gate, &[found("service:gate-reader")]).await.unwrap();

    // The later one is committed; the one before it is not, and would appear behind a reader who went past it.
    assert_eq!(kinds(&event::after(&database.pool, &EventCursor::first(), ALL, 100).await.unwrap()), [""; 0]);
    assert_eq!(event::last(&database.pool).await.unwrap(), None);
    let newest = event::before(&database.pool, i64::MAX, ALL, 100).await.unwrap();
    assert_eq!(kinds(&newest), ["gate-auken-1 drift_found"], "people see it at once");

    early.commit().await.unwrap();
    let both = read(&database, &EventCursor::first(), 2).await;
    assert_eq!(kinds(&both), ["kiosk-auken-1 drift_found", "gate-auken-1 drift_found"]);
    assert_eq!(event::last(&database.pool).await.unwrap(), Some(both[1].cursor()));

    audit::add(&database.pool, "tor.havik", "revoked", "gate-auken-1", &json!({})).await.unwrap();
    let more = read(&database, &both[1].cursor(), 1).await;
    assert_eq!(kinds(&more), ["gate-auken-1 revoked"]);
    let noticed = EventChoice { with_acts: false, ..ALL };
    assert!(event::after(&database.pool, &both[1].cursor(), noticed, 100).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_reader_goes_on_after_the_database_was_moved_and_numbers_its_transactions_anew() {
    let database = Database::fresh().await;
    let kiosk = database.node("kiosk-auken-1").await;
    event::add_of_node(&database.pool, kiosk, &[found("file:/etc/issue")]).await.unwrap();
    // As if it came from a PostgreSQL whose numbers are far ahead.
    database
        .run(
            "alter table event disable trigger only_added_to; update event set xid = '9000000000'::xid8;
             alter table event enable trigger only_added_to; update fleet set xid_epoch = xid_epoch + 1",
        )
        .await;
    event::add_of_node(&database.pool, kiosk, &[NodeEvent::RunRecovered { run: Uuid::nil() }]).await.unwrap();
    let rows = read(&database, &EventCursor::first(), 2).await;
    assert_eq!(kinds(&rows), ["kiosk-auken-1 drift_found", "kiosk-auken-1 run_recovered"]);
    assert_eq!(kinds(&read(&database, &rows[0].cursor(), 1).await), ["kiosk-auken-1 run_recovered"]);
}

#[tokio::test]
async fn each_restore_begins_a_later_epoch_of_transactions_also_one_to_before_the_last() {
    let database = Database::fresh().await;
    let mut db = database.pool.acquire().await.unwrap();
    let mut last = 1;
    for restored_to in [1, 1, 2] {
        database.run(&format!("update fleet set xid_epoch = {restored_to}")).await;
        fleet::begin_epoch(&mut db, 1).await.unwrap();
        let begun: i64 = database.value("select xid_epoch from fleet").await;
        assert!(begun > last, "{begun} after {last}");
        last = begun;
        // The next restore is another second.
        tokio::time::sleep(Duration::from_millis(1_100)).await;
    }
}

#[test]
fn the_later_place_is_by_number_and_not_by_text() {
    let place = |xid_epoch, xid: &str, id| EventCursor { xid_epoch, xid: xid.to_owned(), id };
    assert_eq!(place(1, "99", 7).later(place(1, "100", 2)), place(1, "100", 2));
    assert_eq!(place(2, "5", 1).later(place(1, "900", 9)), place(2, "5", 1));
    assert_eq!(place(1, "5", 3).later(place(1, "5", 4)), place(1, "5", 4));
}

async fn was_heard(database: &Database, node: Uuid, minutes_ago: i64) {
    let at = Timestamp::now() - SignedDuration::from_mins(minutes_ago);
    sqlx::query("update node_now set heard_at = $2, on_time_until = $2, silent_after = $2 + interval '30 minutes' where node = $1")
        .bind(node)
        .bind(at.to_sqlx())
        .execute(&database.pool)
        .await
        .unwrap();
}

#[tokio::test]
async fn a_silence_and_its_end_are_noted_once_each() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let (kiosk, late, never, retired) = (
        database.node("kiosk-auken-1").await,
        database.node("kiosk-auken-2").await,
        database.node("kiosk-auken-3").await,
        database.node("kiosk-auken-4").await,
    );
    was_heard(&database, kiosk, 90).await;
    was_heard(&database, late, 10).await;
    was_heard(&database, retired, 90).await;
    node::retire(&mut db.acquire().await.unwrap(), &[retired], 1).await.unwrap();
    let _ = never;

    assert_eq!(event::note_silent(db).await.unwrap(), 1);
    assert_eq!(event::note_silent(db).await.unwrap(), 0, "it is noted already");
    assert_eq!(event::note_checked_in_again(db).await.unwrap(), 0);
    was_heard(&database, kiosk, 0).await;
    assert_eq!(event::note_checked_in_again(db).await.unwrap(), 1);
    assert_eq!(event::note_checked_in_again(db).await.unwrap(), 0);
    was_heard(&database, kiosk, 45).await;
    assert_eq!(event::note_silent(db).await.unwrap(), 1, "another silence");

    let rows = read(&database, &EventCursor::first(), 3).await;
    assert_eq!(
        kinds(&rows),
        ["kiosk-auken-1 silent", "kiosk-auken-1 checked_in_again", "kiosk-auken-1 silent"]
    );
    for row in &rows {
        serde_json::from_value::<NodeEvent>(row.detail.clone()).expect("what the database wrote is an event");
    }
}

#[tokio::test]
async fn a_node_is_not_called_silent_while_the_server_did_not_hear() {
    let database = Database::fresh().await;
    let kiosk = database.node("kiosk-auken-1").await;
    was_heard(&database, kiosk, 90).await;
    sqlx::query(
        "insert into server_down (from_at, until_at) values ($1::timestamptz - interval '80 minutes', $1)",
    )
    .bind(sql_now())
    .execute(&database.pool)
    .await
    .unwrap();
    assert_eq!(event::note_silent(&database.pool).await.unwrap(), 0);
}

#[tokio::test]
async fn an_ending_certificate_is_noted_once_unless_a_later_one_was_issued() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let (kiosk, gate) = (database.node("kiosk-auken-1").await, database.node("gate-auken-1").await);
    let soon = Timestamp::now() + SignedDuration::from_hours(24 * 5);
    let later = Timestamp::now() + SignedDuration::from_hours(24 * 180);
    node::add_key(db, kiosk, b"kiosk", "certificate", soon).await.unwrap();
    node::add_key(db, gate, b"gate", "certificate", soon).await.unwrap();
    node::add_key(db, gate, b"gate renewed", "certificate", later).await.unwrap();
    assert_eq!(event::note_ending(db).await.unwrap(), 1);
    assert_eq!(event::note_ending(db).await.unwrap(), 0);
    assert_eq!(kinds(&read(&database, &EventCursor::first(), 1).await), ["kiosk-auken-1 certificate_ends"]);
}

#[tokio::test]
async fn what_people_did_stays_and_what_was_noticed_of_nodes_is_removed_when_it_is_old() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let kiosk = database.node("kiosk-auken-1").await;
    let corrected = NodeEvent::DriftEnded {
        run: Uuid::nil(),
        closed_as: ClosedAs::Corrected,
        clauses: NamedClauses::of(["file:/etc/issue".to_owned()]),
    };
    event::add_of_node(db, kiosk, &[found("file:/etc/issue"), corrected]).await.unwrap();
    audit::add(db, "tor.havik", "handed out a change", "kiosks", &json!({ "change": 7 })).await.unwrap();
    for forbidden in
        ["delete from event where who is not null", "update event set at = now()", "truncate event cascade"]
    {
        let error = sqlx::query(forbidden).execute(db).await.expect_err(forbidden);
        assert!(error.to_string().contains("only added to"), "{forbidden}: {error}");
    }
    let yesterday = (Timestamp::now() - SignedDuration::from_hours(24)).to_sqlx();
    assert_eq!(event::prune(db, yesterday).await.unwrap(), 0);
    let tomorrow = (Timestamp::now() + SignedDuration::from_hours(24)).to_sqlx();
    assert_eq!(event::prune(db, tomorrow).await.unwrap(), 2);
    let left = event::before(db, i64::MAX, ALL, 100).await.unwrap();
    assert_eq!(kinds(&left), ["kiosks handed_out"]);
}

#[tokio::test]
async fn recent_activity_is_that_of_the_nodes_that_are_meant() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let (kiosk, gate) = (database.node("kiosk-auken-1").await, database.node("gate-auken-1").await);
    event::add_of_node(db, kiosk, &[found("file:/etc/issue")]).await.unwrap();
    event::add_of_node(db, gate, &[found("service:gate-reader")]).await.unwrap();
    audit::add(db, "pia.lund", "signed in", "pia.lund", &json!({})).await.unwrap();
    audit::add(db, "tor.havik", "handed out a change", "kiosks", &json!({ "change": 7 })).await.unwrap();
    let all = event::recent(db, &Narrowing::All, 12).await.unwrap();
    assert_eq!(kinds(&all), ["kiosks handed_out", "gate-auken-1 drift_found", "kiosk-auken-1 drift_found"]);
    let some = event::recent(db, &Narrowing::Only(vec![kiosk]), 12).await.unwrap();
    assert_eq!(kinds(&some), ["kiosk-auken-1 drift_found"]);
    node::retire(&mut db.acquire().await.unwrap(), &[gate], 1).await.unwrap();
    let all = event::recent(db, &Narrowing::All, 12).await.unwrap();
    assert_eq!(kinds(&all), ["kiosks handed_out", "kiosk-auken-1 drift_found"]);
}
