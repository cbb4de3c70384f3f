//! What a report adds to the history that compliance is counted from.

use crate::clock::zone;
use crate::problem::ApiError;
use crate::store::day_figure::{self, DAYS_KEPT};
use crate::store::history::{self, NodeRow, TwoTimes};
use crate::store::run::OrderRow;
use constans_core::compliance::{
    Deviation, DeviationCause, LastRun, OpenDeviation, examine, follow_deviations, gap_before, run_time,
};
use constans_core::run::Verdict;
use constans_wire::report::RunReport;
use jiff::{Timestamp, ToSpan as _};
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::{BTreeMap, BTreeSet};

/// Adds what a report says to the history of its node: deviations that begin or end, what is examined for the first time, in
/// which windows a drift was not known, and for how long nothing was known of the node before. Returns when the run was by
/// the server's clock, and whether it examined the whole state, so that what it found counts until the next one is overdue.
///
/// # Errors
///
/// Returns why the history could not be read or stored.
pub async fn take_in(
    db: &mut PgConnection,
    known: &NodeRow,
    report: &RunReport,
    order: Option<&OrderRow>,
    learned_at: Timestamp,
) -> Result<(Timestamp, bool), ApiError> {
    let before = order.and_then(|order| order.ran_at).map(|at| at.to_jiff());
    let ran_at = run_time(report.began, known.clock_off_ms, before, learned_at);
    // A run that was killed examined nothing that it could report.
    let is_full = !report.partial && report.did_not_end.is_none();
    if report.did_not_end.is_some() {
        return Ok((ran_at, is_full));
    }
    let when = TwoTimes { at: ran_at, learned_at };
    let gap =
        order.and_then(last_full).filter(|_| is_full).and_then(|last| gap_before(&last, ran_at, learned_at));
    if let Some(gap) = &gap {
        history::gap(&mut *db, known.no, gap, learned_at).await?;
    }
    let earliest_doubt = follow(&mut *db, known, report, when).await?;
    let earliest = earliest_doubt.into_iter().chain(gap.map(|gap| gap.from)).fold(ran_at, Timestamp::min);
    mark_days(db, earliest, learned_at).await?;
    Ok((ran_at, is_full))
}

/// Marks the days that ended since the earliest time that a report alters, and of which figures are kept.
async fn mark_days(db: &mut PgConnection, earliest: Timestamp, learned_at: Timestamp) -> sqlx::Result<()> {
    let [first, today] = [earliest, learned_at].map(|at| at.to_zoned(zone().clone()).date());
    let first = first.max(today.saturating_sub(DAYS_KEPT.days()));
    match today.yesterday() {
        Ok(last) if first <= last => day_figure::mark(db, first, last).await,
        _ => Ok(()),
    }
}

fn last_full(order: &OrderRow) -> Option<LastRun> {
    Some(LastRun { known_until: order.known_until?.to_jiff(), learned_at: order.known_learned?.to_jiff() })
}

/// Follows the deviations of a node. Returns since when something is in doubt that was not before.
async fn follow(
    db: &mut PgConnection,
    known: &NodeRow,
    report: &RunReport,
    when: TwoTimes,
) -> Result<Option<Timestamp>, ApiError> {
    let left_out = report.left_out.map_or(0, |left_out| left_out.clauses);
    // Those in line are left out first.
    let is_whole = !report.partial && left_out <= report.counts.in_line;
    let all_alike = report.clauses.iter().all(|result| matches!(result.verdict, Some(Verdict::Alike) | None));
    if is_whole && all_alike && known.is_state_examined && !known.has_open {
        return Ok(None);
    }
    let wanted: Vec<&str> = report.clauses.iter().map(|result| result.wanted.as_str()).collect();
    // What no state of the fleet ever desired is not counted.
    let desired: BTreeMap<String, i32> = history::desired(&mut *db, &wanted).await?.into_iter().collect();
    let of_result = |wanted: &str| desired.get(wanted).copied();
    let open = open_deviations(&mut *db, known).await?;

    let mut examined = BTreeMap::new();
    let mut windows = Vec::new();
    for result in &report.clauses {
        let (Some(clause), Some(found)) = (of_result(result.wanted.as_str()), examine(result)) else {
            continue;
        };
        if let (Some(window), None) = (result.drift_window, open.get(&clause)) {
            let (from, until) = (window.from, window.to.min(when.at));
            windows.extend((from < until).then_some((clause, from, until)));
        }
        examined.insert(clause, found);
    }
    if is_whole && let Some(state) = known.state {
        if left_out > 0 && !open.is_empty() {
            let of_state: BTreeSet<i32> =
                history::desired_of_state(&mut *db, state).await?.into_iter().collect();
            for clause in open.keys().filter(|clause| of_state.contains(*clause)) {
                examined.entry(*clause).or_insert(Ok(()));
            }
        }
        if !known.is_state_examined {
            history::examined_state(&mut *db, known.no, state, when).await?;
        }
    } else {
        let clauses: Vec<i32> = examined.keys().copied().collect();
        history::examined_clauses(&mut *db, known.no, &clauses, when).await?;
    }
    let changes = follow_deviations(&open, examined);
    if !changes.ended.is_empty() {
        history::end(&mut *db, &changes.ended, when).await?;
    }
    if !changes.begun.is_empty() {
        let begun: Vec<_> =
            changes.begun.into_iter().map(|(clause, deviation)| (clause, word(deviation))).collect();
        history::begin(&mut *db, known.no, &begun, when, report.run).await?;
    }
    if !windows.is_empty() {
        history::doubts(&mut *db, known.no, &windows, when.learned_at).await?;
    }
    Ok(windows.iter().map(|(_, from, _)| *from).min())
}

async fn open_deviations(
    db: &mut PgConnection,
    known: &NodeRow,
) -> Result<BTreeMap<i32, OpenDeviation>, ApiError> {
    if !known.has_open {
        return Ok(BTreeMap::new());
    }
    let read = |(clause, id, cause): (i32, i64, Option<String>)| {
        let deviation = match cause {
            None => Deviation::Unseen,
            Some(cause) => Deviation::Different(
                serde_json::from_value::<DeviationCause>(Value::from(cause))
                    .map_err(|error| ApiError::failed("reading a deviation", &error))?,
            ),
        };
        Ok((clause, OpenDeviation { id, deviation }))
    };
    history::open(db, known.no).await?.into_iter().map(read).collect()
}

fn word(deviation: Deviation) -> Option<String> {
    match deviation {
        Deviation::Unseen => None,
        Deviation::Different(cause) => json!(cause).as_str().map(str::to_owned),
    }
}
