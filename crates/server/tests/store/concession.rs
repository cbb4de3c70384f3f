//! Concessions that follow a filter: which nodes they cover as nodes come and are labelled otherwise, and when their end is announced.

use crate::database::Database;
use crate::page::first_page;
use constans_server::jobs::followed_filters::follow;
use constans_server::store::concession::{self, AskedRow};
use constans_server::store::freeze;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;

async fn ask(database: &Database, filter: &str, hours: i64) -> i64 {
    let clauses = ["file:/etc/kiosk/*".to_owned()];
    let patterns = ["file:/etc/kiosk/%".to_owned()];
    let asked = AskedRow {
        clauses: &clauses,
        patterns: &patterns,
        filter: Some(filter),
        because: "the old screens stay",
        covers_unknown: false,
        asked_by: "ilse.maren",
        until: Timestamp::now() + SignedDuration::from_hours(hours),
    };
    let mut transaction = database.pool.begin().await.unwrap();
    let no = concession::add(&mut transaction, &asked).await.unwrap();
    transaction.commit().await.unwrap();
    no
}

async fn approve(database: &Database, no: i64) {
    assert!(concession::decide(&database.pool, no, "tor.havik", true, None).await.unwrap());
    concession::add_freeze(&database.pool, no, "tor.havik", "D1 allows it").await.unwrap();
}

async fn label(database: &Database, node: Uuid, role: &str) {
    database.run(&format!("update node set labels = '{{\"role\": \"{role}\"}}' where id = '{node}'")).await;
}

async fn nodes_of(database: &Database, no: i64) -> Vec<String> {
    concession::by_no(&database.pool, no).await.unwrap().unwrap().nodes
}

#[tokio::test]
async fn a_followed_filter_and_its_freeze_cover_nodes_that_come_and_leave_those_that_no_longer_match() {
    let database = Database::fresh().await;
    let (first, gate) = (database.node("kiosk-auken-1").await, database.node("gate-auken-1").await);
    label(&database, first, "kiosk").await;
    label(&database, gate, "gate").await;
    // One is decided by the database, the other node by node.
    let plain = ask(&database, "labels.role == \"kiosk\"", 400).await;
    let looked_at = ask(&database, "labels.role.size() == 5", 400).await;
    assert!(follow(&database.pool).await.unwrap());
    for no in [plain, looked_at] {
        assert_eq!(nodes_of(&database, no).await, ["kiosk-auken-1"]);
        approve(&database, no).await;
    }
    assert!(!follow(&database.pool).await.unwrap(), "nothing is other than before");
    let generation = freeze::generation(&database.pool).await.unwrap();

    let second = database.node("kiosk-auken-2").await;
    label(&database, second, "kiosk").await;
    label(&database, first, "gate").await;
    assert!(follow(&database.pool).await.unwrap());
    assert!(freeze::generation(&database.pool).await.unwrap() > generation, "nodes are given it");
    for no in [plain, looked_at] {
        assert_eq!(nodes_of(&database, no).await, ["kiosk-auken-2"]);
    }
    let frozen = freeze::in_force(&database.pool, &[first, gate, second]).await.unwrap();
    assert_eq!(frozen.len(), 2);
    for row in frozen {
        assert_eq!([first, gate, second].map(|node| row.is_for(node)), [false, false, true], "F{}", row.no);
    }
    let covered = "select count(*) from concession_node where concession = 1 and until_at is not null";
    assert_eq!(database.value::<i64>(covered).await, 1, "it covered the first one, which stays on record");

    // What is over is followed no more.
    let mut connection = database.connection().await;
    assert!(concession::end(&mut connection, plain, "tor.havik", "rebuilt").await.unwrap());
    assert!(!concession::end(&mut connection, plain, "tor.havik", "rebuilt").await.unwrap(), "it is ended");
    assert_eq!(freeze::count(&database.pool).await.unwrap(), 1, "its freeze is ended too");
    assert_eq!(concession::followed(&database.pool).await.unwrap().len(), 1);
}

#[tokio::test]
async fn the_end_of_a_concession_is_announced_once_a_week_before_it() {
    let database = Database::fresh().await;
    let later = ask(&database, "true", 8 * 24).await;
    let soon = ask(&database, "true", 6 * 24).await;
    let undecided = ask(&database, "true", 24).await;
    approve(&database, later).await;
    approve(&database, soon).await;
    follow(&database.pool).await.unwrap();
    follow(&database.pool).await.unwrap();
    let announced =
        "select string_agg(subject, ' ') from event where did = 'announced that a concession ends soon'";
    assert_eq!(database.value::<String>(announced).await, format!("D{soon}"));
    let noticed: Vec<(i64, bool)> =
        concession::noticed(&database.pool).await.unwrap().iter().map(|row| (row.no, row.is_asked)).collect();
    assert_eq!(noticed, [(undecided, true), (soon, false)]);
    let listed = concession::list(&database.pool, &first_page(), false).await.unwrap();
    assert_eq!(listed.len(), 3);
}
