//! When the first lock opens that a run found closed.

use super::decide::{Mode, Settings};
use super::result::{ClauseResult, Decision, Leave};
use jiff::Timestamp;

/// Returns the announced hour at which something that a run left will be due: the end of a grace or a freeze, or the opening of
/// the change window. None if nothing waits for an hour, or if the mode lets nothing happen at any hour.
pub fn next_opening(results: &[ClauseResult], reaction_is_due: bool, settings: &Settings, now: Timestamp) -> Option<Timestamp> {
    if settings.mode == Mode::Observe {
        return None;
    }
    let of_clause = |result: &ClauseResult| match &result.decision {
        Decision::Leave { why: Leave::Freeze { until, .. } | Leave::Grace { until } } => Some(*until),
        Decision::Leave { why: Leave::Window { opens } } => Some(*opens),
        _ => None,
    };
    let of_reactions = reaction_is_due.then(|| {
        let window = settings.closed_window(now).map(|window| window.opens);
        let frozen = settings.freeze_at(now).map(|freeze| freeze.until);
        // Which clause the reaction is of is not known here: the end of each freeze is worth another look.
        let some_frozen = settings.freezes.iter().filter(|freeze| freeze.until > now).map(|freeze| freeze.until).min();
        frozen.or(some_frozen).max(window)
    });
    results.iter().filter_map(of_clause).chain(of_reactions.flatten()).filter(|at| *at > now).min()
}
