//! The fleet as people see it: what is so now, what wants attention, and what is wanted clause by clause.

use crate::kit::Stage;
use constans_core::attention::Attention;
use constans_core::kit::Severity;
use constans_core::run::{Cause, Mode, Outcome, Status};
use constans_core::standing::Sign;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use uuid::Uuid;

/// The fleet, or the part of it that a filter names.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Fleet {
    /// The server's clock.
    pub now: Timestamp,
    /// How many nodes there are in all.
    pub total: usize,
    /// How many of them the filter names.
    pub shown: usize,
    /// How many nodes did not report what the filter asks for; they are not shown.
    pub undecidable: usize,
    /// How many nodes are shown by which sign, the gravest first.
    pub signs: Vec<SignCount>,
    /// The nodes by sign, then name; none when there are more than 2,000.
    pub ticks: Vec<Tick>,
    /// What wants attention, the gravest first.
    pub attention: Vec<Attention>,
    /// The stages with what each serves.
    pub stages: Vec<Stage>,
    /// The last runs in which anything happened, the newest first.
    pub lately: Vec<LateRun>,
    /// How many machines wait to join.
    pub joining: usize,
    /// Since when the server is recovering, if it is.
    pub recovering_since: Option<Timestamp>,
    /// What is wrong with the server itself, as that a certificate of its ends.
    pub server_problems: Vec<String>,
}

/// How many nodes are shown by a sign.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SignCount {
    /// The sign.
    pub sign: Sign,
    /// How many.
    pub nodes: usize,
}

/// One node of the ribbon.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tick {
    /// The node.
    pub name: String,
    /// Its sign.
    pub sign: Sign,
    /// Whether it is late.
    pub late: bool,
}

/// A run in which something happened.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LateRun {
    /// The node.
    pub node: String,
    /// The run.
    pub run: Uuid,
    /// When it began, by the node's clock.
    pub began: Timestamp,
    /// When the server learned it.
    pub learned: Timestamp,
    /// Its mode.
    pub mode: Mode,
    /// Its status.
    pub status: Status,
}

/// A page of nodes.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodePage {
    /// The nodes by name.
    pub nodes: Vec<crate::check_in::NodeSummary>,
    /// The name to go on after; none on the last page.
    pub next: Option<String>,
    /// How many nodes did not report what the filter asks for; they are not shown.
    pub undecidable: usize,
}

/// What a node is wanted to be and how it is, clause by clause, as of its last full run.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeClauses {
    /// That run, if it was kept whole.
    pub run: Option<Uuid>,
    /// The digest of the state that it ran; none before the first run.
    pub state: Option<String>,
    /// The clauses in their order.
    pub clauses: Vec<NodeClause>,
}

/// One clause of a node.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeClause {
    /// Its address.
    pub address: String,
    /// How much it matters.
    pub severity: Severity,
    /// Where it comes from, as `kit@1.0.0/baseline`.
    pub origins: Vec<String>,
    /// The controls that it satisfies.
    pub satisfies: Vec<String>,
    /// What came of it.
    pub outcome: Outcome,
    /// Why it was different, if it was.
    pub cause: Option<Cause>,
    /// Why it is left, or what failed.
    pub said: Option<String>,
    /// Since when it is not in line.
    pub since: Option<Timestamp>,
    /// Its properties as they are wanted; contents by digest, concealed ones by a keyed name.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub wanted: BTreeMap<String, Value>,
}
