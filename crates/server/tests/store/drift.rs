//! Figures of drift, against a plain reckoning from the same episodes.

use crate::database::Database;
use constans_server::store::drift::{DriftDimension, EpisodeChoice, FiguresRow, count, list};
use constans_server::store::narrowing::Narrowing;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};

const BEGIN: Timestamp = Timestamp::constant(1_790_812_800, 0);

struct Told {
    node: &'static str,
    address: &'static str,
    /// Hours since the beginning: in line until, detected, closed.
    hours: (i64, i64, Option<i64>),
    closed_as: Option<&'static str>,
}

const TOLD: [Told; 9] = [
    told("kiosk-auken-1", "file:/etc/issue", (0, 2, Some(3)), Some("corrected")),
    told("kiosk-auken-1", "file:/etc/issue", (20, 30, Some(40)), Some("corrected")),
    told("kiosk-auken-1", "file:/etc/kiosk/shell.conf", (40, 44, None), None),
    told("gate-auken-1", "file:/etc/issue", (10, 11, Some(80)), Some("by_hand")),
    told("gate-auken-1", "file:/etc/gate/tariffs.csv", (50, 60, Some(61)), Some("by_rollout")),
    told("gate-auken-1", "file:/etc/gate/tariffs.csv", (70, 90, None), None),
    told("gate-brisk-1", "file:/etc/gate/tariffs.csv", (5, 25, Some(26)), Some("corrected")),
    told("gate-brisk-1", "file:/etc/issue", (5, 70, Some(75)), Some("not_wanted")),
    told("gate-brisk-1", "file:/etc/issue", (95, 99, Some(100)), Some("corrected")),
];

const fn told(
    node: &'static str,
    address: &'static str,
    hours: (i64, i64, Option<i64>),
    closed_as: Option<&'static str>,
) -> Told {
    Told { node, address, hours, closed_as }
}

fn at(hours: i64) -> Timestamp {
    BEGIN + SignedDuration::from_hours(hours)
}

async fn store(database: &Database) {
    let mut ids = BTreeMap::new();
    for told in TOLD {
        if !ids.contains_key(told.node) {
            ids.insert(told.node, database.node(told.node).await);
        }
        let id = ids[told.node];
        let (from, detected, closed) = told.hours;
        let quoted =
            |value: Option<String>| value.map_or_else(|| "null".to_owned(), |value| format!("'{value}'"));
        database
            .run(&format!(
                "insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at, closed_at, closed_as)
                    values ('{id}', '{}', 'high', 'w1:{}', '{}', '{}', gen_random_uuid(), now(), {}, {})",
                told.address,
                told.address,
                at(from),
                at(detected),
                quoted(closed.map(|hours| at(hours).to_string())),
                quoted(told.closed_as.map(str::to_owned)),
            ))
            .await;
    }
}

/// The middle one, or the one with 95 of 100 before or at it: the first that at least so many are not above.
fn share(mut secs: Vec<i64>, percent: usize) -> Option<i64> {
    secs.sort_unstable();
    let place = (secs.len() * percent).div_ceil(100).max(1) - 1;
    secs.get(place).copied()
}

/// What is counted of these by hand.
fn reckoned(since: i64, until: i64, key: Option<String>, chosen: &[&Told]) -> FiguresRow {
    let seen: Vec<&&Told> = chosen
        .iter()
        .filter(|told| told.hours.1 < until && told.hours.2.is_none_or(|closed| closed >= since))
        .collect();
    let is_over = |told: &&&&Told| told.hours.2.is_some_and(|closed| closed < until);
    let ended =
        |how: &str| seen.iter().filter(is_over).filter(|told| told.closed_as == Some(how)).count() as i64;
    let within: Vec<i64> = seen
        .iter()
        .filter(|told| told.hours.1 >= since)
        .map(|told| (told.hours.1 - told.hours.0) * 3_600)
        .collect();
    let after: Vec<i64> = seen
        .iter()
        .filter(is_over)
        .filter(|told| told.closed_as == Some("corrected"))
        .map(|told| (told.hours.2.unwrap() - told.hours.1) * 3_600)
        .collect();
    let mean = |secs: &[i64]| {
        let number = i64::try_from(secs.len()).unwrap();
        (number > 0).then(|| (secs.iter().sum::<i64>() + number - 1) / number)
    };
    FiguresRow {
        key,
        episodes: seen.len() as i64,
        nodes: seen.iter().map(|told| told.node).collect::<BTreeSet<_>>().len() as i64,
        open: seen.iter().filter(|told| !is_over(told)).count() as i64,
        only_reported: 0,
        drills: 0,
        detected: within.len() as i64,
        corrected: ended("corrected"),
        by_hand: ended("by_hand"),
        by_rollout: ended("by_rollout"),
        no_longer: ended("not_wanted"),
        within_median: share(within.clone(), 50),
        within_p95: share(within.clone(), 95),
        within_mean: mean(&within),
        after_median: share(after.clone(), 50),
        after_p95: share(after.clone(), 95),
        after_mean: mean(&after),
    }
}

#[tokio::test]
async fn episodes_of_any_period_are_counted_and_timed_as_by_hand() {
    let database = Database::fresh().await;
    store(&database).await;
    let narrowing = Narrowing::All;
    let all: Vec<&Told> = TOLD.iter().collect();
    for (since, until) in [(0, 200), (27, 62), (3, 26), (61, 80), (101, 102), (90, 91)] {
        let choice = EpisodeChoice {
            narrowing: &narrowing,
            since: at(since),
            until: at(until),
            clause: None,
            is_open: None,
        };
        let found = count(&database.pool, &choice, None).await.unwrap().pop().unwrap_or_default();
        let expected = reckoned(since, until, None, &all);
        assert_eq!(format!("{found:?}"), format!("{expected:?}"), "{since} to {until}");
        for by in [DriftDimension::Clause, DriftDimension::Node] {
            let key_of = |told: &Told| if by == DriftDimension::Node { told.node } else { told.address };
            for row in count(&database.pool, &choice, Some(&by)).await.unwrap() {
                let key = row.key.clone().unwrap();
                let of_key: Vec<&Told> = TOLD.iter().filter(|told| key_of(told) == key).collect();
                let expected = reckoned(since, until, Some(key.clone()), &of_key);
                assert_eq!(format!("{row:?}"), format!("{expected:?}"), "{since} to {until}, {key}");
            }
        }
        let listed = list(&database.pool, &choice, None, 100).await.unwrap();
        assert_eq!(listed.len() as i64, found.episodes, "{since} to {until}");
    }
}

#[tokio::test]
async fn episodes_are_listed_open_ones_first_in_pages_and_by_clause() {
    let database = Database::fresh().await;
    store(&database).await;
    let narrowing = Narrowing::All;
    let choice = |clause, is_open| EpisodeChoice {
        narrowing: &narrowing,
        since: at(0),
        until: at(200),
        clause,
        is_open,
    };
    let mut seen = Vec::new();
    let mut after = None;
    loop {
        let mut page = list(&database.pool, &choice(None, None), after.as_ref(), 2).await.unwrap();
        let is_last = page.len() <= 2;
        page.truncate(2);
        after = page.last().map(|row| row.episode.cursor());
        seen.extend(page);
        if is_last {
            break;
        }
    }
    assert_eq!(seen.len(), TOLD.len(), "each once");
    let open: Vec<bool> = seen.iter().map(|row| row.episode.closed_at.is_none()).collect();
    assert_eq!(open.iter().filter(|open| **open).count(), 2);
    assert!(open.is_sorted_by(|left, right| left >= right), "open ones first: {open:?}");
    let of_clause = list(&database.pool, &choice(Some("file:/etc/gate/tariffs.csv"), Some(true)), None, 10)
        .await
        .unwrap();
    assert_eq!(of_clause.iter().map(|row| row.name.as_str()).collect::<Vec<_>>(), ["gate-auken-1"]);
    let ended = list(&database.pool, &choice(None, Some(false)), None, 10).await.unwrap();
    assert_eq!(ended.len(), TOLD.len() - 2);
}
