//! What a sweep would do on a node, by what its last run found.

use super::order::SweepOrder;
use crate::address::ClauseAddress;
use crate::run::{Decision, Leave, Mode, Outcome};
use crate::state::Origin;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A clause that the last run of a node did not find as wanted, as far as it matters here.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct PreviewedClause {
    /// Its address.
    pub address: ClauseAddress,
    /// Its topics.
    #[serde(default)]
    pub topics: Vec<String>,
    /// Where it comes from.
    #[serde(default)]
    pub origins: Vec<Origin>,
    /// What was due.
    pub decision: Decision,
    /// What would have been, of an observing run.
    #[serde(default)]
    pub would: Option<Decision>,
    /// The outcome.
    pub outcome: Outcome,
}

/// What a sweep would do on a node.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodePreview {
    /// How many clauses it would correct, or try to.
    pub correct: u64,
    /// How many it would leave, by why, as a word: `on_drift`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub leave: BTreeMap<String, u64>,
    /// How many wait for something that they need.
    pub blocked: u64,
}

/// Returns what an order would do with what the last run of a node found, if nothing changed since. Clauses that were corrected then are
/// as wanted.
pub fn preview_of(order: &SweepOrder, found: &[PreviewedClause]) -> NodePreview {
    let mut preview = NodePreview::default();
    for clause in found {
        let is_out = matches!(clause.outcome, Outcome::OutOfLine | Outcome::Blocked | Outcome::Failed);
        if !is_out || !order.part.has(&clause.address, &clause.topics, &clause.origins) {
            continue;
        }
        match due(order, clause) {
            Due::Correct => preview.correct += 1,
            Due::Blocked => preview.blocked += 1,
            Due::Leave(why) => *preview.leave.entry(why.to_owned()).or_default() += 1,
        }
    }
    preview
}

enum Due {
    Correct,
    Blocked,
    Leave(&'static str),
}

fn due(order: &SweepOrder, clause: &PreviewedClause) -> Due {
    match clause.would.as_ref().unwrap_or(&clause.decision) {
        Decision::Blocked { .. } => Due::Blocked,
        Decision::Leave { why } => match why {
            Leave::OnDrift { .. } if order.correct_once => Due::Correct,
            Leave::OnRollout { .. } if order.correct_once => Due::Correct,
            Leave::Grace { .. } | Leave::Window { .. } | Leave::CutTheWay { .. } if order.now => Due::Correct,
            // Looked at only with what an enforcing run was due to do: its mode is the order's now.
            Leave::Observing if order.mode == Mode::Enforce => Due::Correct,
            why => Due::Leave(why.word()),
        },
        // What was tried and failed is tried again; what could not be looked at, looked at.
        Decision::Correct | Decision::Nothing => Due::Correct,
    }
}
