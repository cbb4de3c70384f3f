//! The statements that are composed fit the schema, and what they count agrees with what they list.

use crate::database::Database;
use crate::narrowing::plain;
use crate::page::first_page;
use constans_core::change::DocumentKey;
use constans_core::node_status::Promise;
use constans_server::store::check_in::{self, NewCheckIn};
use constans_server::store::narrowing::Narrowing;
use constans_server::store::run::{self, NewRun, Order, PlainRun};
use constans_server::store::{change, event, exception, joining, listing, wanted};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Twelve nodes: some in contact, some silent, some that never reported, one revoked, one retired.
async fn fleet(database: &Database) -> Vec<Uuid> {
    let mut nodes = Vec::new();
    for at in 0..12 {
        let node = database.node(&format!("kiosk-auken-{at:02}")).await;
        nodes.push(node);
        let status = ["in_line", "drift_found", "failed"][at % 3];
        let heard = ["interval '5 minutes'", "interval '5 hours'"][usize::from(at % 4 == 3)];
        if at != 5 {
            database
                .run(&format!(
                    "update node_now set heard_at = now() - {heard}, on_time_until = now() - {heard} + interval '20 minutes',
                         silent_after = now() - {heard} + interval '1 hour', full_status = '{status}', full_began = now() - {heard}
                     where node = '{node}'"
                ))
                .await;
        }
    }
    constans_server::store::node::revoke(&mut database.connection().await, nodes[1]).await.unwrap();
    constans_server::store::node::retire(&mut database.pool.acquire().await.unwrap(), &[nodes[2]], 1)
        .await
        .unwrap();
    nodes
}

#[tokio::test]
async fn what_is_counted_by_status_is_what_the_ribbon_shows() {
    let database = Database::fresh().await;
    let nodes = fleet(&database).await;
    let all = [
        Narrowing::All,
        plain("node.name.startsWith('kiosk-auken-0')"),
        plain("node.status == 'failed'"),
        plain("node.last_contact == 'silent'"),
        Narrowing::Only(vec![nodes[0], nodes[3], nodes[5]]),
    ];
    for narrowing in all {
        let ticks = listing::ticks(&database.pool, &narrowing).await.unwrap();
        let mut shown: BTreeMap<String, i64> = BTreeMap::new();
        ticks.iter().for_each(|tick| *shown.entry(tick.status.clone()).or_default() += 1);
        let rows = listing::statuses(&database.pool, &narrowing).await.unwrap();
        let mut counted: BTreeMap<String, i64> =
            rows.iter().map(|row| (row.status.clone(), row.nodes)).collect();
        // Where it is not asked how nodes are now, those without problems are left out, all of them in line.
        if !narrowing.asks_for_now() {
            let in_all = listing::count(&database.pool, &narrowing).await.unwrap();
            let quiet = in_all - counted.values().sum::<i64>();
            if quiet > 0 {
                *counted.entry("in_line".to_owned()).or_default() += quiet;
            }
        }
        assert_eq!(counted, shown, "{narrowing:?}");
        let silent: Vec<Uuid> = rows.iter().flat_map(|row| row.with_problems.clone()).collect();
        let problems = listing::with_problems(&database.pool, &narrowing, silent).await.unwrap();
        let mut named: Vec<&str> = problems.iter().map(|row| row.name.as_str()).collect();
        named.sort_unstable();
        let mut expected: Vec<&str> = ticks
            .iter()
            .filter(|tick| tick.last_contact != "on_time" && tick.status != "revoked")
            .map(|tick| tick.name.as_str())
            .collect();
        expected.sort_unstable();
        assert_eq!(named, expected, "{narrowing:?}");
        assert_eq!(listing::undecidable(&database.pool, &narrowing).await.unwrap(), 0);
    }
}

#[tokio::test]
async fn every_composed_statement_fits_the_schema() {
    let database = Database::fresh().await;
    let db = &database.pool;
    let node = database.node("kiosk-auken-1").await;
    let (some, at) = (Uuid::now_v7(), Timestamp::now());
    for narrowing in [
        Narrowing::All,
        plain("labels.site == 'auken'"),
        plain("node.status == 'failed'"),
        Narrowing::Only(vec![node]),
    ] {
        exception::all(db, &narrowing).await.unwrap();
        exception::recurring_drifts(db, &narrowing).await.unwrap();
        event::recent(db, &narrowing, 5).await.unwrap();
        listing::total(db, &narrowing).await.unwrap();
    }
    assert!(listing::one(db, "kiosk-auken-1").await.unwrap().is_some());
    assert!(change::by_no(db, 7).await.unwrap().is_none());
    assert!(change::list(db, i64::MAX, Some(node), 100).await.unwrap().is_empty());
    assert!(change::last_of_key(db, &DocumentKey::Group("kiosks".to_owned())).await.unwrap().is_none());
    let mut transaction = db.begin().await.unwrap();
    assert!(joining::by_id(&mut *transaction, some).await.unwrap().is_none());
    assert!(joining::by_key(&mut *transaction, b"key").await.unwrap().is_none());
    assert!(joining::waiting(&mut *transaction, &first_page()).await.unwrap().is_empty());
    assert_eq!(wanted::node_views(&mut *transaction, &[node]).await.unwrap().len(), 1);

    let promise = Promise { heard_at: at, next_at: at + SignedDuration::from_mins(15) };
    let new = NewCheckIn {
        node,
        promise,
        clock_off_ms: 0,
        shown: None,
        given: some,
        has: None,
        attributes_digest: vec![1],
    };
    check_in::note(&mut transaction, &new, None, false).await.unwrap();
    let span: i64 = sqlx::query_scalar("select id from heard").fetch_one(&mut *transaction).await.unwrap();
    check_in::note(&mut transaction, &new, Some(span), false).await.unwrap();
    assert!(check_in::take_plain(&mut *transaction, &[(new, b"key".to_vec())]).await.unwrap().is_empty());
    let order = Order { memory_epoch: some, sequence: 1 };
    let row = NewRun {
        run: some,
        began: at,
        mode: "enforce",
        status: "in_line",
        partial: false,
        state: "s2:0",
        ran_at: at,
        is_full: true,
        learned_at: at,
        found: None,
        known_by_metadata: 0,
    };
    let begun = run::begin_span(&mut *transaction, node, &row).await.unwrap().id;
    run::note(&mut *transaction, node, &order, Some(begun), &row).await.unwrap();
    assert!(run::lengthen(&mut *transaction, begun, &row).await.unwrap().is_some());
    let plain = PlainRun {
        node,
        spki: b"key".to_vec(),
        order: Order { memory_epoch: some, sequence: 2 },
        run: Uuid::now_v7(),
        began: at,
        mode: "enforce".to_owned(),
        status: "in_line".to_owned(),
        state: "s2:0".to_owned(),
        found: None,
        known_by_metadata: 0,
    };
    assert!(
        run::lengthen_plain(&mut *transaction, &[plain]).await.unwrap().is_empty(),
        "its key is not known"
    );
}
