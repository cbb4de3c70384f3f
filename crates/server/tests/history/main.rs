//! The history that compliance is counted from, against what truly happened: random histories of a few nodes, put into intake as
//! reports, and asked about at any moment, as known at any moment.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

#[path = "../store/database.rs"]
#[expect(dead_code, reason = "the other tests use the rest of it")]
mod database;
mod random;
mod tale;
mod truth;

use constans_clock::MovedClock;
use constans_server::store::compliance::{CountedRow, Dimension, Moment, count, nodes};
use constans_server::store::narrowing::Narrowing;
use database::Database;
use random::Random;
use std::collections::BTreeMap;
use tale::Tale;

/// Checks this many histories; `HISTORIES` sets another number.
const HISTORIES: u64 = 100;

/// Asks this many times about each.
const QUESTIONS: usize = 8;

#[tokio::test]
async fn any_moment_as_known_at_any_moment_is_counted_as_it_was() {
    let histories = std::env::var("HISTORIES").map_or(HISTORIES, |count| count.parse().unwrap());
    let folder = tempfile::tempdir().unwrap();
    let clock = MovedClock::create(&folder.path().join("clock"), tale::BEGIN).unwrap();
    constans_server::clock::go_by(clock.clock().unwrap());
    let database = Database::fresh().await;
    let mut equal_runs = 0;
    for seed in 0..histories {
        let mut random = Random::new(seed);
        let tale = Tale::tell(&database, &clock, &mut random).await;
        for question in 0..QUESTIONS {
            let moment = tale.moment(&mut random, question);
            ask(&database, &tale, moment, seed).await;
        }
        equal_runs += database
            .value::<i64>("select coalesce(sum(count - 1), 0)::bigint from run_span where run is not null")
            .await;
        database
            .run("truncate node, change, placement, effective_state, clause, desired_clause, clause_address, run cascade")
            .await;
    }
    assert!(equal_runs > 0, "deviations were found again");
}

async fn ask(database: &Database, tale: &Tale, moment: Moment, seed: u64) {
    let (narrowing, db) = (Narrowing::All, &database.pool);
    let asked = format!("history {seed} at {} as known at {}", moment.at, moment.known_at);
    let truth = tale.truth.results(moment.at, moment.known_at);
    assert_eq!(
        nodes(db, &narrowing, moment).await.unwrap(),
        i64::try_from(truth.nodes.len()).unwrap(),
        "{asked}"
    );
    let dimensions = [
        Some(Dimension::Node),
        None,
        Some(Dimension::Clause),
        Some(Dimension::Severity),
        Some(Dimension::Control),
    ];
    for by in dimensions {
        let rows = count(db, &narrowing, moment, by.as_ref()).await.unwrap();
        let found: BTreeMap<Option<String>, CountedRow> =
            rows.into_iter().map(|row| (row.key.clone(), row)).collect();
        let expected = truth.counted(by.as_ref());
        for key in found.keys().chain(expected.keys()) {
            let of_node = key.as_ref().and_then(|key| tale.truth.nodes.get(key));
            assert_eq!(found.get(key), expected.get(key), "{asked}: {key:?} by {by:?}\n{of_node:#?}");
        }
    }
    let by_cause = count(db, &narrowing, moment, Some(&Dimension::Cause)).await.unwrap();
    let all = count(db, &narrowing, moment, None).await.unwrap();
    let whole = |row: &CountedRow| row.compliant + row.noncompliant + row.unexamined + row.unknown;
    assert_eq!(
        by_cause.iter().map(whole).sum::<i64>(),
        all.iter().map(whole).sum::<i64>(),
        "causes add up, {asked}"
    );
}
