//! What the run of a node came to.

use crate::address::ClauseAddress;
use crate::run::{ClauseResult, Counts, Decision, Leave, Mode, Observed, ObservedClause, Outcome, Status};
use serde::{Deserialize, Serialize};

/// So many clauses that failed, or were left, are named of one node.
pub const MAX_NAMED: usize = 50;
/// Of a message so much is kept, in characters.
const LONGEST_MESSAGE: usize = 300;

/// What the run of a node in a sweep came to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CameOf {
    /// The status of the run.
    pub status: Status,
    /// Number of clauses by outcome.
    pub counts: Counts,
    /// How many clauses an enforcing run would correct; of an observing run.
    #[serde(default)]
    pub would: u64,
    /// Clauses that failed, at most [`MAX_NAMED`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub failed: Vec<FailedClause>,
    /// Clauses that were left as they are, at most [`MAX_NAMED`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<LeftClause>,
    /// How many reactions are still due, also of clauses that it did not touch.
    #[serde(default)]
    pub due: u64,
    /// Whether it was stopped before its end.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_stopped: bool,
    /// How far it came, if it did not end: the agent was killed, or the machine went off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interrupted: Option<String>,
    /// How long it took, in microseconds.
    #[serde(default)]
    pub took_us: u64,
}

/// A clause that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FailedClause {
    /// Its address.
    pub address: ClauseAddress,
    /// The first line of what happened.
    pub message: String,
}

/// A clause that was left as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LeftClause {
    /// Its address.
    pub address: ClauseAddress,
    /// Why.
    pub why: Leave,
}

impl CameOf {
    /// Returns what these results of a run in a mode came to.
    pub fn of(results: &[ClauseResult], mode: Mode, status: Status, took_us: u64) -> Self {
        let failed = results.iter().filter(|result| result.outcome == Outcome::Failed).map(|result| {
            let message = result.failure.as_ref().map_or("", |failure| failure.message.as_str());
            let first = message.lines().next().unwrap_or_default();
            FailedClause {
                address: result.address.clone(),
                message: first.chars().take(LONGEST_MESSAGE).collect(),
            }
        });
        let left = results.iter().filter_map(|result| match due(result) {
            Decision::Leave { why } => Some(LeftClause { address: result.address.clone(), why: why.clone() }),
            _ => None,
        });
        Self {
            status,
            counts: Counts::of(results),
            would: if mode == Mode::Observe { would_correct(results).count() as u64 } else { 0 },
            failed: failed.take(MAX_NAMED).collect(),
            left: left.take(MAX_NAMED).collect(),
            due: 0,
            is_stopped: false,
            interrupted: None,
            took_us,
        }
    }

    /// Returns whether each clause that it examined is as wanted now.
    pub fn is_in_line(&self) -> bool {
        let Counts { out_of_line, blocked, failed, unsupported, .. } = self.counts;
        // A node may report any number.
        !self.is_stopped
            && [out_of_line, blocked, failed, unsupported] == [0; 4]
            && self.status != Status::Failed
    }
}

/// What is due of a clause: of an observing run what an enforcing one would do.
fn due(result: &ClauseResult) -> &Decision {
    result.would.as_ref().unwrap_or(&result.decision)
}

fn would_correct(results: &[ClauseResult]) -> impl Iterator<Item = &ClauseResult> {
    results.iter().filter(|result| result.would == Some(Decision::Correct))
}

/// Returns what an observing run would have corrected, for a run that is to correct exactly this.
pub fn observed_by(results: &[ClauseResult]) -> Observed {
    let seen = |result: &ClauseResult| {
        let observed = ObservedClause { wanted: result.wanted.clone(), found: result.found.clone()? };
        Some((result.address.clone(), observed))
    };
    would_correct(results).filter_map(seen).collect()
}
