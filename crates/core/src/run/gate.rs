//! Needs: whether what a clause needs is in line at this moment.

use super::result::{Blocker, ClauseResult, Decision, Outcome, Verdict};
use crate::address::ClauseAddress;

/// What is known of a clause that another one needs.
#[derive(Debug, Clone, Copy)]
pub(super) enum Need<'r> {
    /// It was handled in this run.
    Handled(&'r ClauseResult),
    /// It was only looked at, since it is outside of a partial run.
    LookedAt {
        /// Whether it was as wanted.
        alike: bool,
    },
    /// It is not part of the state, or was not looked at.
    Unknown,
}

/// Returns what a need that is not in line blocks with; `None` if it is in line.
///
/// In an observing run a need that would be corrected counts as in line.
pub(super) fn blocker(address: &ClauseAddress, need: Need<'_>) -> Option<Blocker> {
    let here = |outcome| Some(Blocker { need: address.clone(), first: address.clone(), outcome });
    match need {
        Need::LookedAt { alike: true } => None,
        Need::LookedAt { alike: false } | Need::Unknown => here(Outcome::OutOfLine),
        Need::Handled(result) => match (&result.outcome, &result.would, &result.decision) {
            (Outcome::InLine | Outcome::Corrected | Outcome::Idle, _, _)
            | (_, Some(Decision::Correct), _) => None,
            (_, Some(Decision::Blocked { by }), _) | (_, None, Decision::Blocked { by }) => {
                Some(Blocker { need: address.clone(), ..by.clone() })
            }
            (outcome, _, _) => here(*outcome),
        },
    }
}

/// Returns whether a need was really seen as wanted: what a clause that cannot be inspected may lean on.
pub(super) fn is_really_alike(need: Need<'_>) -> bool {
    match need {
        Need::Handled(result) => {
            result.verdict.is_none_or(|verdict| verdict == Verdict::Alike)
                || result.outcome == Outcome::Corrected
        }
        Need::LookedAt { alike } => alike,
        Need::Unknown => false,
    }
}
