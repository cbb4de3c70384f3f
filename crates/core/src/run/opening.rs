//! When the first lock opens that a run found closed.

use super::decide::{Mode, RunSettings};
use super::result::{ClauseResult, Decision, Leave};
use crate::state::Clause;
use jiff::Timestamp;

/// Returns the announced hour at which something that a run left will be due: the end of a grace or a freeze, or the opening of
/// a change window. None if nothing waits for an hour, or if the mode lets nothing happen at any hour.
pub fn next_opening(results: &[ClauseResult], settings: &RunSettings, now: Timestamp) -> Option<Timestamp> {
    let of_clause = |result: &ClauseResult| match &result.decision {
        Decision::Leave { why: Leave::Freeze { until, .. } | Leave::Grace { until } } => Some(*until),
        Decision::Leave { why: Leave::Window { opens, .. } } => Some(*opens),
        _ => None,
    };
    earliest(results.iter().filter_map(of_clause), settings, now)
}

/// Returns the same of the reactions of these clauses, which are due.
pub fn next_opening_of_reactions<'c>(
    due: impl IntoIterator<Item = &'c Clause>,
    settings: &RunSettings,
    now: Timestamp,
) -> Option<Timestamp> {
    let of_clause = |clause: &Clause| {
        settings
            .freeze_of(&clause.address, now)
            .map(|freeze| freeze.until)
            .max(settings.closed_until(clause, now))
    };
    earliest(due.into_iter().filter_map(of_clause), settings, now)
}

fn earliest(
    hours: impl Iterator<Item = Timestamp>,
    settings: &RunSettings,
    now: Timestamp,
) -> Option<Timestamp> {
    if settings.mode == Mode::Observe { None } else { hours.filter(|at| *at > now).min() }
}
