//! Nodes: their keys, their names, and what ends with them.

use crate::database::Database;
use constans_core::change::NodeDocument;
use constans_core::group::NodeOwn;
use constans_server::store::history::{self, TwoTimes};
use constans_server::store::{check_in, node};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

fn in_a_year() -> Timestamp {
    Timestamp::now() + SignedDuration::from_hours(24 * 365)
}

#[tokio::test]
async fn a_node_is_admitted_by_its_own_key_until_one_of_both_is_revoked() {
    let database = Database::fresh().await;
    let kiosk = database.node("kiosk-auken-1").await;
    let gate = database.node("gate-auken-1").await;
    node::add_key(&database.pool, kiosk, b"key of kiosk", "certificate", in_a_year()).await.unwrap();
    let admission = |id, key: &'static [u8]| {
        let pool = database.pool.clone();
        async move { node::by_key(&pool, id, key).await.unwrap().map(|row| (row.name, row.is_revoked)) }
    };
    assert_eq!(admission(kiosk, b"key of kiosk").await, Some(("kiosk-auken-1".to_owned(), false)));
    assert_eq!(admission(gate, b"key of kiosk").await, None, "another node's key");
    assert_eq!(admission(kiosk, b"another key").await, None);

    assert!(node::revoke(&mut database.connection().await, kiosk).await.unwrap());
    assert_eq!(admission(kiosk, b"key of kiosk").await, Some(("kiosk-auken-1".to_owned(), true)));

    // Let back with another key, the first one stays revoked.
    node::add_key(&database.pool, kiosk, b"second key", "certificate", in_a_year()).await.unwrap();
    let mut connection = database.pool.acquire().await.unwrap();
    let ended = node::let_back(&mut connection, kiosk, b"second key").await.unwrap();
    assert_eq!(ended, [b"key of kiosk".to_vec()]);
    assert_eq!(admission(kiosk, b"second key").await, Some(("kiosk-auken-1".to_owned(), false)));
    assert_eq!(admission(kiosk, b"key of kiosk").await, Some(("kiosk-auken-1".to_owned(), true)));
}

#[tokio::test]
async fn a_name_is_free_again_when_its_node_is_renamed_or_retired() {
    let database = Database::fresh().await;
    let kiosk = database.node("kiosk-auken-1").await;
    let mut connection = database.pool.acquire().await.unwrap();
    let renamed =
        NodeDocument { name: "kiosk-tern-1".to_owned(), labels: BTreeMap::new(), own: NodeOwn::default() };
    node::edit(&mut connection, &[(kiosk, renamed)]).await.unwrap();
    assert_eq!(node::by_name(&database.pool, "kiosk-auken-1").await.unwrap(), None);
    assert_eq!(node::by_name(&database.pool, "kiosk-tern-1").await.unwrap(), Some(kiosk));
    let in_use = |name: &str| {
        let (pool, name) = (database.pool.clone(), name.to_owned());
        async move { node::names_in_use(&pool, &[name]).await.unwrap() }
    };
    assert_eq!(in_use("kiosk-auken-1").await, Vec::<String>::new());
    assert_eq!(in_use("kiosk-tern-1").await, ["kiosk-tern-1"]);

    node::retire(&mut connection, &[kiosk], 1).await.unwrap();
    assert_eq!(node::by_name(&database.pool, "kiosk-tern-1").await.unwrap(), None);
    let next = database.node("kiosk-tern-1").await;
    assert_eq!(node::by_name(&database.pool, "kiosk-tern-1").await.unwrap(), Some(next));
}

#[tokio::test]
async fn two_nodes_never_have_one_name_at_a_time() {
    let database = Database::fresh().await;
    database.node("kiosk-auken-1").await;
    let again = node::add(&mut database.connection().await, uuid::Uuid::now_v7(), "kiosk-auken-1").await;
    assert!(again.is_err(), "the database itself refuses it");
}

#[tokio::test]
async fn a_report_and_an_act_on_its_node_wait_for_each_other_and_neither_is_refused() {
    let database = Database::fresh().await;
    let node = database.node("kiosk-auken-1").await;
    database.run("update node_now set duplicate_identity_since = now()").await;
    let (mut of_report, mut of_act) =
        (database.pool.begin().await.unwrap(), database.pool.begin().await.unwrap());
    // A report has the row of the present, and then refers to the node.
    sqlx::query("select 1 from node_now where node = $1 for update")
        .bind(node)
        .execute(&mut *of_report)
        .await
        .unwrap();
    assert_eq!(node::locked_by_name(&mut *of_act, "kiosk-auken-1").await.unwrap(), Some(node));
    let act = tokio::spawn(async move {
        check_in::resolve_duplicate(&mut of_act, node).await.unwrap();
        of_act.commit().await.unwrap();
    });
    tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    let now = constans_server::clock::now();
    history::missing_runs(&mut *of_report, 1, 3, now, TwoTimes { at: now, learned_at: now }).await.unwrap();
    of_report.commit().await.unwrap();
    act.await.unwrap();
}
