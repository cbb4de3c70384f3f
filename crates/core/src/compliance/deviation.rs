//! What a run found of clauses, and how their deviations begin and end.

use crate::run::{ClauseResult, FailureAt, Outcome, Status, Verdict, remaining};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Why a clause is not as desired.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DeviationCause {
    /// Inspecting, correcting or verifying failed.
    Failed,
    /// It drifted and was not corrected.
    Drift,
    /// It was broken in a drill, and not corrected yet.
    Drill,
    /// Only a person can correct it.
    NeedsPerson,
    /// Something that it needs is not in line.
    Blocked,
    /// It is new or changed, and not applied yet.
    Waiting,
}

impl DeviationCause {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Failed, Self::Drift, Self::Drill, Self::NeedsPerson, Self::Blocked, Self::Waiting];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Failed => "failed",
            Self::Drift => "drift",
            Self::Drill => "broken in a drill",
            Self::NeedsPerson => "needs a person",
            Self::Blocked => "blocked",
            Self::Waiting => "not applied yet, not yet due",
        }
    }
}

/// The key of clauses that wait longer than is allowed for their severity, and its words.
pub const OVERDUE: (&str, &str) = ("overdue", "not applied yet, overdue");

/// What keeps a clause from being compliant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Deviation {
    /// It was found different.
    Different(DeviationCause),
    /// It could not be inspected.
    Unseen,
}

/// Returns what a run found of a clause at its last inspection: a deviation, or that it is as desired. None of a clause
/// that only reacts, which is not examined.
pub fn examine(result: &ClauseResult) -> Option<Result<(), Deviation>> {
    // A reaction that fails follows a correction that was verified.
    let is_corrected = result.outcome == Outcome::Corrected
        || result.failure.as_ref().is_some_and(|failure| failure.at == FailureAt::React);
    Some(match result.verdict? {
        Verdict::Alike => Ok(()),
        Verdict::Unseen => Err(Deviation::Unseen),
        Verdict::Different if is_corrected => Ok(()),
        Verdict::Different => Err(Deviation::Different(cause_of(result))),
    })
}

fn cause_of(result: &ClauseResult) -> DeviationCause {
    match (result.outcome, remaining(result)) {
        (Outcome::Failed, _) => DeviationCause::Failed,
        (_, Status::DriftFound) if result.drill.is_some() => DeviationCause::Drill,
        (_, Status::DriftFound) => DeviationCause::Drift,
        (Outcome::Blocked, _) => DeviationCause::Blocked,
        (_, Status::Unmet) => DeviationCause::NeedsPerson,
        _ => DeviationCause::Waiting,
    }
}

/// A deviation of a node that no examination contradicted yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OpenDeviation {
    /// Its id.
    pub id: i64,
    /// What it is.
    pub deviation: Deviation,
}

/// What a run does to the deviations of its node, by clause.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviationChanges<Clause> {
    /// The ids of those that end.
    pub ended: Vec<i64>,
    /// Those that begin.
    pub begun: Vec<(Clause, Deviation)>,
}

/// Returns what a run that examined these clauses does to the open deviations of its node. A clause is an address together
/// with what was desired of it: if something else is desired, its deviation stays as it was last examined.
pub fn follow_deviations<Clause: Ord + Copy>(
    open: &BTreeMap<Clause, OpenDeviation>,
    examined: impl IntoIterator<Item = (Clause, Result<(), Deviation>)>,
) -> DeviationChanges<Clause> {
    let mut changes = DeviationChanges { ended: Vec::new(), begun: Vec::new() };
    for (clause, found) in examined {
        let before = open.get(&clause);
        if before.map(|before| before.deviation) == found.err() {
            continue;
        }
        changes.ended.extend(before.map(|before| before.id));
        changes.begun.extend(found.err().map(|deviation| (clause, deviation)));
    }
    changes
}

#[cfg(test)]
mod tests {
    use super::*;

    const DRIFT: Deviation = Deviation::Different(DeviationCause::Drift);
    const FAILED: Deviation = Deviation::Different(DeviationCause::Failed);

    fn open(all: &[(u8, i64, Deviation)]) -> BTreeMap<u8, OpenDeviation> {
        all.iter()
            .map(|(clause, id, deviation)| (*clause, OpenDeviation { id: *id, deviation: *deviation }))
            .collect()
    }

    #[test]
    fn a_deviation_stays_open_until_an_examination_contradicts_it() {
        let before = open(&[(1, 10, DRIFT), (2, 20, DRIFT), (3, 30, Deviation::Unseen), (4, 40, DRIFT)]);
        let changes = follow_deviations(
            &before,
            [(1, Ok(())), (2, Err(DRIFT)), (3, Err(DRIFT)), (5, Ok(())), (6, Err(FAILED))],
        );
        assert_eq!(changes.ended, [10, 30], "2 is as before, 4 was not examined");
        assert_eq!(changes.begun, [(3, DRIFT), (6, FAILED)]);
    }
}
