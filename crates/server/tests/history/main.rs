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
use constans_core::compliance::{ClauseCounts, Move, moves};
use constans_core::evidence::hex;
use constans_server::jobs::chain_of_days::chain_next;
use constans_server::jobs::day_figures::bring_up_to_date;
use constans_server::jobs::examined_states::note_all;
use constans_server::jobs::retention::{DaysKept, delete_old};
use constans_server::learned::tree_of;
use constans_server::store::clause_result::{self, ResultRow};
use constans_server::store::compliance::{CountedRow, Dimension, Moment, OnlyClauses, compare, count};
use constans_server::store::day_figure::{self, end_of};
use constans_server::store::evidence;
use constans_server::store::narrowing::Narrowing;
use constans_server::store::retention;
use database::Database;
use jiff::ToSpan as _;
use jiff::tz::TimeZone;
use random::Random;
use std::collections::BTreeMap;
use tale::Tale;
use truth::{Moved, Truths};

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
    let (mut equal_runs, mut conceded, mut deleted, mut mapped, mut missing_runs, mut put_back) =
        (0, 0, 0, 0, 0, 0);
    for seed in 0..histories {
        let mut random = Random::new(seed);
        let tale = Tale::tell(&database, &clock, &mut random).await;
        let moments: Vec<Moment> =
            (0..QUESTIONS).map(|question| tale.moment(&mut random, question)).collect();
        if seed % 2 == 1 {
            note_all(&database.pool).await.unwrap();
        }
        let missing: i64 = database.value("select coalesce(sum(runs), 0)::bigint from missing_runs").await;
        assert_eq!(missing.unsigned_abs(), tale.missing_runs, "history {seed}");
        missing_runs += missing;
        put_back += tale.put_back;
        // Of now something else is read than of the past.
        ask(&database, &tale, &moments[..1], tale.only(&mut random).as_ref(), seed).await;
        ask(&database, &tale, &moments[1..], tale.only(&mut random).as_ref(), seed).await;
        rows_are_as_it_was(&database, &tale, moments[usize::try_from(seed).unwrap() % QUESTIONS], seed).await;
        days_are_as_counted(&database, seed).await;
        for _ in 0..QUESTIONS {
            let only = tale.only(&mut random);
            mapped += compare_moments(&database, &tale, tale.moments(&mut random), only.as_ref(), seed).await;
        }
        deleted += old_is_deleted(&database, &tale, &mut random, seed).await;
        conceded += tale.truth.concessions.len();
        equal_runs += database
            .value::<i64>("select coalesce(sum(count - 1), 0)::bigint from run_span where run is not null")
            .await;
        database
            .run("truncate node, concession, change, placement, effective_state, clause, desired_clause, clause_address, run, day_figure, day_mark, learned_day cascade")
            .await;
    }
    assert!(equal_runs > 0, "deviations were found again");
    assert!(conceded > 0, "some deviations were conceded");
    assert!(deleted > 0, "some deviations were deleted");
    assert!(put_back > 0, "some databases were put back");
    assert!(missing_runs > 0, "some reports were lost");
    assert!(mapped > 0, "some clauses were mapped otherwise by a change");
}

/// Asks about some moments at once, by every dimension.
async fn ask(database: &Database, tale: &Tale, moments: &[Moment], only: Option<&OnlyClauses>, seed: u64) {
    let (narrowing, db) = (Narrowing::All, &database.pool);
    let truths: Vec<_> =
        moments.iter().map(|moment| tale.truth.results(moment.at, moment.known_at).only(only)).collect();
    let dimensions = [
        None,
        Some(Dimension::Node),
        Some(Dimension::Clause),
        Some(Dimension::Severity),
        Some(Dimension::Control),
        Some(Dimension::Cause),
    ];
    let mut compliant = BTreeMap::new();
    for by in dimensions {
        let mut counted = count(db, &narrowing, moments, by.as_ref(), only).await.unwrap();
        assert_eq!(counted.all.len(), moments.len());
        for row in &counted.all {
            let (place, nodes) = (usize::try_from(row.moment).unwrap(), row.nodes_in_all);
            assert_eq!(nodes, i64::try_from(truths[place].nodes.len()).unwrap(), "history {seed}, {by:?}");
        }
        // All together is the same whatever else is counted.
        let all: BTreeMap<usize, CountedRow> =
            std::mem::take(&mut counted.all).into_iter().filter_map(of_clauses).collect();
        match &by {
            None => compliant.extend(all.clone()),
            Some(_) => assert_eq!(all, compliant, "history {seed}, {by:?}"),
        }
        let of_key = |(place, row): (usize, CountedRow)| ((place, row.key.clone()), row);
        if by == Some(Dimension::Cause) {
            causes_add_up(&counted.rows, &all);
            // The truth does not tell apart why a clause is not compliant.
            counted.rows.retain(|row| row.noncompliant == 0);
        }
        let found: BTreeMap<(usize, Option<String>), CountedRow> = match &by {
            None => all.into_iter().map(of_key).collect(),
            Some(_) => counted.rows.into_iter().filter_map(of_clauses).map(of_key).collect(),
        };
        let mut expected = BTreeMap::new();
        for (place, truth) in truths.iter().enumerate() {
            let moment = i32::try_from(place).unwrap();
            let rows = truth.counted(by.as_ref()).into_iter();
            for (key, row) in rows.filter(|(_, row)| by != Some(Dimension::Cause) || row.noncompliant == 0) {
                expected.insert((place, key), CountedRow { moment, ..row });
            }
        }
        for key in found.keys().chain(expected.keys()) {
            let asked = &moments[key.0];
            let of_node = key.1.as_ref().and_then(|key| tale.truth.nodes.get(key));
            assert_eq!(found.get(key), expected.get(key), "history {seed} {asked:?}: {by:?}\n{of_node:#?}");
        }
    }
    let uncovered = Truths { concessions: Vec::new(), ..tale.truth.clone() };
    for (place, moment) in moments.iter().enumerate() {
        let asked = format!("history {seed} at {} as known at {}", moment.at, moment.known_at);
        let all = compliant.get(&place);
        // Without concessions the same would be compliant.
        let found = uncovered.results(moment.at, moment.known_at).only(only).counted(None);
        let of_found = found.get(&None).map(|row| row.compliant);
        assert_eq!(all.map(|row| row.compliant), of_found, "no concession raises the rate, {asked}");
    }
}

fn causes_add_up(rows: &[CountedRow], all: &BTreeMap<usize, CountedRow>) {
    for (place, all) in all {
        let of_moment = rows.iter().filter(|row| usize::try_from(row.moment) == Ok(*place));
        assert_eq!(of_moment.clone().map(|row| row.noncompliant).sum::<i64>(), all.noncompliant);
        assert_eq!(of_moment.map(|row| row.clauses().all()).sum::<u64>(), all.clauses().all());
    }
}

/// A row as the truth has it, by the place of its moment; none if it counts no clause.
fn of_clauses(row: CountedRow) -> Option<(usize, CountedRow)> {
    let row = CountedRow { is_all: false, nodes_in_all: 0, ..row };
    let is_empty = row.clauses() == ClauseCounts::default();
    (!is_empty).then(|| (row.moment.try_into().unwrap(), row))
}

/// What is deleted since it is old alters no answer about what is kept, and what is left of a day stays proven.
async fn old_is_deleted(database: &Database, tale: &Tale, random: &mut Random, seed: u64) -> i64 {
    let pool = &database.pool;
    while chain_next(pool).await.unwrap() > 0 {}
    let days = evidence::days(pool).await.unwrap();
    let (rows, open) = (
        "select count(*) from deviation where until_at is not null",
        "select count(*) from deviation d join node_life l on l.node = d.node and l.until_at is null where d.until_at is null",
    );
    let before = (database.value::<i64>(rows).await, database.value::<i64>(open).await);
    delete_old(pool, DaysKept { history: 0, related_records: 0 }).await.unwrap();
    let after = (database.value::<i64>(rows).await, database.value::<i64>(open).await);
    assert!(after.0 <= before.0 && after.1 == before.1, "history {seed}: {before:?} {after:?}");
    let Some(since) = retention::last_deleted(pool).await.unwrap().map(end_of) else { return 0 };
    let old =
        format!("select count(*) from deviation where until_at < '{since}' and until_learned_at < '{since}'");
    assert_eq!(database.value::<i64>(&old).await, 0, "history {seed}");
    let moments: Vec<Moment> = (0..2 * QUESTIONS)
        .map(|question| tale.moment(random, question))
        .filter(|moment| !moment.is_now && moment.at >= since)
        .take(QUESTIONS)
        .collect();
    if !moments.is_empty() {
        ask(database, tale, &moments, None, seed).await;
    }
    for link in days {
        let tree = tree_of(&mut database.connection().await, link.day).await.unwrap();
        assert_eq!(hex(&tree.root()), link.root, "history {seed}, {}", link.day);
    }
    before.0 - after.0
}

/// Every clause on every node one by one, as evidence has them.
async fn rows_are_as_it_was(database: &Database, tale: &Tale, moment: Moment, seed: u64) {
    let asked = format!("history {seed} at {} as known at {}", moment.at, moment.known_at);
    let mut connection = database.connection().await;
    let nodes = clause_result::nodes(&mut connection, &Narrowing::All, moment).await.unwrap();
    let names: BTreeMap<i32, &str> = nodes.iter().map(|node| (node.no, node.name.as_str())).collect();
    let addresses: BTreeMap<i64, String> = {
        let states: Vec<i64> = nodes.iter().filter_map(|node| node.state).collect();
        let clauses = evidence::clauses(&mut connection, &states).await.unwrap();
        clauses.into_iter().map(|clause| (clause.id, clause.address)).collect()
    };
    let mut found = Vec::new();
    let moment = Moment { is_now: false, ..moment };
    clause_result::each(&mut connection, &Narrowing::All, moment, &[], async |row: ResultRow| {
        let result = match row.status.as_str() {
            "compliant" => "compliant",
            _ if row.is_conceded => "conceded",
            "unexamined" => "unexamined",
            "unknown" => "unknown",
            _ => {
                assert!(row.since.is_some() && row.run.is_some(), "a run found it, {asked}");
                "noncompliant"
            }
        };
        let in_doubt = row.is_in_doubt && result == "compliant";
        found.push((names[&row.node].to_owned(), addresses[&row.clause].clone(), result, in_doubt));
        Ok::<(), sqlx::Error>(())
    })
    .await
    .unwrap();
    let truth = tale.truth.results(moment.at, moment.known_at);
    let mut expected: Vec<_> = truth.all.iter().map(truth::Result::row).collect();
    found.sort();
    expected.sort();
    assert_eq!(found, expected, "{asked}");
    let sorted: Vec<&str> = truth.nodes.iter().map(String::as_str).collect();
    assert_eq!(nodes.iter().map(|node| node.name.as_str()).collect::<Vec<_>>(), sorted, "{asked}");
}

/// The figures that are kept of days, brought up to date now and then while reports came late, are what is counted now.
async fn days_are_as_counted(database: &Database, seed: u64) {
    while bring_up_to_date(&database.pool).await.unwrap() > 0 {}
    let today = constans_server::clock::now().to_zoned(TimeZone::UTC).date();
    let (db, first) = (&database.pool, today.saturating_sub(9.days()));
    let kept = day_figure::between(db, first, today, day_figure::ALL).await.unwrap();
    assert!(kept.len() == usize::try_from(today.day() - 1).unwrap(), "history {seed}: {kept:?}");
    for row in kept {
        let at = end_of(row.day.to_jiff());
        let moment = Moment { at, known_at: constans_server::clock::now(), is_now: false };
        let counted =
            count(&database.pool, &Narrowing::All, &[moment], None, None).await.unwrap().all.pop().unwrap();
        assert_eq!(of_clauses(row.counted), of_clauses(counted), "history {seed}, the end of {:?}", row.day);
    }
    // And of the clauses of one control or severity, also on days on which there were none.
    for only in [OnlyClauses::Control("SK-9".to_owned()), OnlyClauses::Severity("critical".to_owned())] {
        for row in day_figure::between(db, first, today, only.kept().unwrap()).await.unwrap() {
            let at = end_of(row.day.to_jiff());
            let moment = Moment { at, known_at: constans_server::clock::now(), is_now: false };
            let counted =
                count(&database.pool, &Narrowing::All, &[moment], None, Some(&only)).await.unwrap().all;
            let counted = of_clauses(counted.into_iter().next().unwrap());
            assert_eq!(
                of_clauses(row.counted),
                counted,
                "history {seed}, {only:?}, the end of {:?}",
                row.day
            );
        }
    }
}

/// What moved between two moments, and that it adds up. Returns in how many ways clauses were mapped otherwise.
async fn compare_moments(
    database: &Database,
    tale: &Tale,
    moments: [Moment; 2],
    only: Option<&OnlyClauses>,
    seed: u64,
) -> usize {
    let (narrowing, db) = (Narrowing::All, &database.pool);
    let [from, until] = moments;
    let asked = format!(
        "history {seed} from {} until {} as known at {}, {only:?}",
        from.at, until.at, until.known_at
    );
    let results = moments.map(|moment| tale.truth.results(moment.at, moment.known_at));
    let expected = results[0].moved(&results[1], (from.at, until.at), only);
    let compared = compare(db, &narrowing, moments, only).await.unwrap();
    let rows = compared.moved;
    let found: BTreeMap<Moved, i64> = rows
        .iter()
        .map(|row| {
            let word = |status: &Option<String>| status.as_deref().map(truth::status_named);
            let statuses = (word(&row.status_before), word(&row.status_after));
            let conceded = (row.is_conceded_before, row.is_conceded_after);
            (
                (
                    (row.had_node, row.has_node),
                    statuses,
                    conceded,
                    (row.is_desired_otherwise, row.is_other_clause),
                    row.change,
                ),
                row.count,
            )
        })
        .collect();
    assert_eq!(found.len(), rows.len(), "each once, {asked}");
    assert_eq!(found, expected, "{asked}");

    let both = count(db, &narrowing, &moments, None, only).await.unwrap().all;
    assert_eq!(compared.counted, both, "{asked}");
    let counts_at = |moment: i32| {
        both.iter().find(|row| row.moment == moment).map(CountedRow::clauses).unwrap_or_default()
    };
    let (before, after) = (counts_at(0), counts_at(1));
    let moves = moves(&before, rows.iter().map(|row| (row.moved().unwrap(), row.count.unsigned_abs())));
    let sum = |part: fn(&Move) -> i64| moves.iter().map(part).sum::<i64>();
    let more = |before: u64, after: u64| i64::try_from(after).unwrap() - i64::try_from(before).unwrap();
    assert_eq!(sum(|one| one.compliant), more(before.compliant, after.compliant), "{asked}");
    assert_eq!(sum(|one| one.all), more(before.all(), after.all()), "{asked}");
    let points = |counts: &ClauseCounts| counts.rate().map_or(0, |rate| rate.basis_points());
    assert_eq!(sum(|one| one.basis_points), more(points(&before), points(&after)), "{asked}: {moves:?}");
    found.keys().filter(|(_, _, _, (_, is_other), change)| *is_other && change.is_some()).count()
}
