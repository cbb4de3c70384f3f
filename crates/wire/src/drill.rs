//! Drills: clauses of a node are broken on purpose, to see them noticed and put right.

use constans_core::address::ClauseAddress;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// So many clauses are broken in one drill.
pub const MAX_CLAUSES: usize = 20;

/// A drill to be done.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewDrill {
    /// The node; it has the label `drill=allowed`.
    pub node: String,
    /// Which clauses are broken, at most 20.
    pub clauses: BTreeSet<ClauseAddress>,
    /// After how many seconds the agent undoes what nobody has put right: from one minute to one day.
    pub for_secs: u64,
    /// Whether a run begins at once, in place of the next one that is due.
    #[serde(default)]
    pub now: bool,
    /// The reason, at most 500 characters, kept in the audit trail.
    pub because: String,
}

/// A drill that a node is to do, in the answer to a check-in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DrillOffer {
    /// Its number: 7 is called D7.
    pub no: i64,
    /// Which clauses are broken.
    pub clauses: BTreeSet<ClauseAddress>,
    /// After how many seconds the agent undoes what nobody has put right.
    pub for_secs: u64,
    /// Whether a run begins at once.
    pub now: bool,
    /// By whom it was asked.
    pub who: String,
    /// Why.
    pub because: String,
}

/// How a drill goes on, as its agent tells it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DrillReport {
    /// Why nothing was broken, if nothing was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// What becomes of its clauses.
    #[serde(default)]
    pub clauses: Vec<DrilledClause>,
}

/// What becomes of a clause in a drill. Times are those of the node's clock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DrilledClause {
    /// The clause.
    pub address: ClauseAddress,
    /// How it was broken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// Why it was not broken, or could not be undone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// When it was broken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub broken_at: Option<Timestamp>,
    /// When a run of the agent noticed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noticed_at: Option<Timestamp>,
    /// When it was found in line again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub put_right_at: Option<Timestamp>,
    /// When the agent undid it, since nobody had put it right.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undone_at: Option<Timestamp>,
}

impl DrilledClause {
    /// Returns a clause of which nothing is known yet.
    pub fn of(address: ClauseAddress) -> Self {
        Self {
            address,
            words: None,
            failed: None,
            broken_at: None,
            noticed_at: None,
            put_right_at: None,
            undone_at: None,
        }
    }

    /// Returns whether it is still broken.
    pub fn is_open(&self) -> bool {
        self.broken_at.is_some()
            && self.put_right_at.is_none()
            && self.undone_at.is_none()
            && self.failed.is_none()
    }
}

impl DrillReport {
    /// Returns whether nothing is broken any more.
    pub fn is_over(&self) -> bool {
        self.refused.is_some() || !self.clauses.iter().any(DrilledClause::is_open)
    }
}

/// A drill, and what came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Drill {
    /// What was asked.
    #[serde(flatten)]
    pub asked: DrillOffer,
    /// The node.
    pub node: String,
    /// When it was asked.
    pub asked_at: Timestamp,
    /// Until when it is offered to the node.
    pub offered_until: Timestamp,
    /// The server's clock.
    pub now_at: Timestamp,
    /// Whether the server held a request of the node, by which it was woken.
    pub was_waiting: bool,
    /// When the node checks in next by itself, as it promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_check_in: Option<Timestamp>,
    /// What the node told of it last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<DrillReport>,
    /// When nothing was broken any more, as the server learned it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub over_at: Option<Timestamp>,
}
