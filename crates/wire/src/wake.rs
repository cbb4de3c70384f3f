//! Wakes: the server asks nodes to check in at once, over requests that it holds for them.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Where agents ask for the next wake; the number of the newest one that they know follows as `after`.
pub const WAIT_PATH: &str = "/wait";
/// The kind of the refusal of a server that has no place for another held request.
pub const NO_PLACE: &str = "no_place";

/// The end of a held request. It says no more than: check in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WaitAnswer {
    /// The number of the newest wake of the node, if it is another one than it knows; none if nothing happened in all the time.
    pub wake: Option<i64>,
}

/// Nodes are to check in at once.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewWake {
    /// The nodes by name.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub nodes: BTreeSet<String>,
    /// Or those that a condition selects (CEL); all nodes if it is empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Or those that a change alters and that did not fetch it yet, by its number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<i64>,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// Nodes that were asked to check in at once, and what came of it so far.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Wake {
    /// Its number: 7 is called W7.
    pub no: i64,
    /// When they were asked.
    pub at: Timestamp,
    /// By whom.
    pub who: String,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// How many nodes.
    pub nodes: u64,
    /// Of how many the server held a request: these can be woken.
    pub waiting: u64,
    /// How many checked in since then.
    pub answered: u64,
    /// How many have what is desired of them now.
    pub up_to_date: u64,
    /// After how many milliseconds half of those who checked in had done so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub median_ms: Option<u64>,
    /// After how many the last of them did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slowest_ms: Option<u64>,
    /// When the last of the others checks in by itself, as far as they promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_by: Option<Timestamp>,
    /// The server's clock.
    pub now: Timestamp,
}

/// What became of a node that was asked to check in at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Woken {
    /// It checked in.
    Answered,
    /// The server held a request of it, and it has not come yet.
    Woken,
    /// The server held no request of it: it checks in by itself.
    AtItsCheckIn,
}

impl Woken {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Answered => "answered",
            Self::Woken => "woken, no answer yet",
            Self::AtItsCheckIn => "cannot be woken",
        }
    }
}

/// A node that was asked to check in at once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WokenNode {
    /// Its name.
    pub name: String,
    /// What became of it.
    pub woken: Woken,
    /// After how many milliseconds it checked in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answered_ms: Option<u64>,
    /// When it was heard last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard_at: Option<Timestamp>,
    /// When it checks in next by itself, as it promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_check_in: Option<Timestamp>,
    /// Whether it has what is desired of it now.
    pub is_up_to_date: bool,
}
