//! Freezes, as they are set and listed.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A freeze to be set.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewFreeze {
    /// The names of the nodes that it is for, at most 1,000; none for all nodes.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(max_items = 1_000))]
    pub nodes: BTreeSet<String>,
    /// The addresses of the clauses that it is for, or patterns of them, at most 100; none for all clauses.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(max_items = 100))]
    pub clauses: BTreeSet<String>,
    /// How many seconds it lasts, at most 90 days.
    #[cfg_attr(feature = "schema", schema(minimum = 1, maximum = 7_776_000))]
    pub for_secs: u64,
    /// Why, at most 500 characters.
    pub because: String,
}

/// The end of a freeze before its hour.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct EndFreeze {
    /// Why, at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// A freeze as it is listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FreezeShown {
    /// Its number: 7 is called F7.
    pub no: i64,
    /// Who set it.
    pub who: String,
    /// Why.
    pub because: String,
    /// When it was set.
    pub set: Timestamp,
    /// Until when it lasts.
    pub until: Timestamp,
    /// When it was ended before that.
    pub ended: Option<Timestamp>,
    /// By whom.
    pub ended_by: Option<String>,
    /// Whether it is for all nodes.
    pub is_for_all: bool,
    /// The names of the nodes that it is for otherwise.
    pub nodes: Vec<String>,
    /// The addresses of the clauses that it is for, or patterns of them; all clauses, if none is named.
    pub clauses: Vec<String>,
    /// Those of them that fit no clause of a node.
    #[serde(default)]
    pub unknown_clauses: Vec<String>,
    /// For how many nodes it is.
    pub of: u64,
    /// How many of them hold it.
    pub held_by: u64,
    /// When the last node that does not hold it checks in next; none if all do, or one is not expected.
    pub last_by: Option<Timestamp>,
}
