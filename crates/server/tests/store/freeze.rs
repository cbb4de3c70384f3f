//! Freezes: in force for those nodes, until their hour or until a person ends them.

use crate::database::Database;
use crate::page::first_page;
use constans_server::store::freeze::{self, NewFreeze};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;
use uuid::Uuid;

async fn set(database: &Database, nodes: &[Uuid], clauses: &[&str], hours: i64) -> i64 {
    let mut connection = database.pool.acquire().await.unwrap();
    let new = NewFreeze {
        who: "tor.havik",
        because: "boarding",
        nodes,
        clauses: &clauses.iter().map(|clause| (*clause).to_owned()).collect::<BTreeSet<_>>(),
        until: Timestamp::now() + SignedDuration::from_hours(hours),
    };
    freeze::add(&mut connection, &new).await.unwrap()
}

async fn of(database: &Database, node: Uuid) -> Vec<i64> {
    let rows = freeze::in_force(&database.pool, &[node]).await.unwrap();
    rows.iter().filter(|row| row.is_for(node)).map(|row| row.no).collect()
}

#[tokio::test]
async fn a_freeze_is_for_its_nodes_or_for_all_until_its_hour_or_its_end() {
    let database = Database::fresh().await;
    let (kiosk, gate) = (database.node("kiosk-auken-1").await, database.node("gate-auken-1").await);
    let of_kiosk = set(&database, &[kiosk], &[], 2).await;
    let of_all = set(&database, &[], &["service:*"], 2).await;
    let over = set(&database, &[gate], &[], -1).await;
    assert_eq!(of(&database, kiosk).await, [of_kiosk, of_all]);
    assert_eq!(of(&database, gate).await, [of_all], "F{over} is over by its hour");
    assert_eq!(freeze::count(&database.pool).await.unwrap(), 2);

    assert!(freeze::end(&database.pool, of_all, "pia.lund", Some("boarded")).await.unwrap());
    assert!(!freeze::end(&database.pool, of_all, "pia.lund", None).await.unwrap(), "it is ended already");
    assert!(!freeze::end(&database.pool, over, "pia.lund", None).await.unwrap(), "it is over");
    assert!(!freeze::end(&database.pool, 99, "pia.lund", None).await.unwrap(), "there is none");
    assert_eq!(of(&database, gate).await, Vec::<i64>::new());
    let listed = freeze::list(&database.pool, &first_page(), true).await.unwrap();
    assert_eq!(
        listed.iter().map(|row| row.no).collect::<Vec<_>>(),
        [over, of_all, of_kiosk],
        "the newest first"
    );
    assert_eq!(listed[1].ended_by.as_deref(), Some("pia.lund"));
    assert_eq!(listed[2].nodes, ["kiosk-auken-1"]);
}

#[tokio::test]
async fn the_generation_rises_with_each_freeze_and_each_end() {
    let database = Database::fresh().await;
    let generation = || async { freeze::generation(&database.pool).await.unwrap() };
    let before = generation().await;
    let no = set(&database, &[], &[], 1).await;
    let set = generation().await;
    assert!(set > before, "{set:?} {before:?}");
    assert!(freeze::end(&database.pool, no, "tor.havik", None).await.unwrap());
    assert!(generation().await > set);
}
