//! The overview of a fleet, and the clauses of a node.

use crate::event::Event;
use crate::kit::Stage;
use constans_core::attention::Attention;
use constans_core::kit::Severity;
use constans_core::node_status::NodeStatus;
use constans_core::run::{Cause, Outcome, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use uuid::Uuid;

/// The overview of the fleet, or of the nodes that match a filter.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Overview {
    /// The server's clock.
    pub now: Timestamp,
    /// Number of nodes in all.
    pub total: usize,
    /// Number of nodes that match the filter.
    pub shown: usize,
    /// Number of nodes for which the filter cannot be evaluated, because they did not report a field; they are not listed.
    pub undecidable: usize,
    /// Number of nodes by status, the most severe first.
    pub statuses: Vec<StatusCount>,
    /// The nodes by status, then name; none if there are more than 2,000.
    pub ticks: Vec<Tick>,
    /// What needs attention, the most severe first.
    pub attention: Vec<Attention>,
    /// The stages with their releases.
    pub stages: Vec<Stage>,
    /// The last events, the newest first.
    pub recent_activity: Vec<Event>,
    /// Number of waiting joining requests.
    pub joining: usize,
    /// Since when the server is recovering, if it is.
    pub recovering_since: Option<Timestamp>,
    /// Problems of the server itself, for example a certificate that ends soon.
    pub server_problems: Vec<String>,
}

/// The number of nodes with a status.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StatusCount {
    /// The status.
    pub status: NodeStatus,
    /// How many.
    pub nodes: usize,
}

/// One node of the ribbon.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tick {
    /// The node.
    pub name: String,
    /// Its status.
    pub status: NodeStatus,
    /// Whether it is late.
    pub late: bool,
}

/// A page of nodes.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodePage {
    /// The nodes in the order that was asked for.
    pub nodes: Vec<crate::node::NodeSummary>,
    /// Where the next page begins; none on the last page.
    pub next: Option<String>,
    /// Number of nodes on all pages, if `count` asks for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total: Option<usize>,
    /// Number of nodes for which the filter cannot be evaluated, because they did not report a field; they are not listed.
    pub undecidable: usize,
}

/// Desired and actual state of a node by clause, as of its last full run.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeClauses {
    /// That run, if its report is stored.
    pub run: Option<Uuid>,
    /// The digest of the state that it ran; none before the first run.
    pub state: Option<String>,
    /// The clauses in their order.
    pub clauses: Vec<NodeClause>,
}

/// A concession that covers a clause.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConcededBy {
    /// Its number: 3 is called D3.
    pub no: i64,
    /// Until when it lasts.
    pub until: Timestamp,
    /// Why.
    pub because: String,
}

/// One clause of a node.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeClause {
    /// Its address.
    pub address: String,
    /// Its severity.
    pub severity: Severity,
    /// Where it comes from, as `kit@1.0.0/baseline`.
    pub origins: Vec<String>,
    /// The controls that it satisfies.
    pub satisfies: Vec<String>,
    /// The outcome.
    pub outcome: Outcome,
    /// The status whose symbol and colour it is shown with.
    pub status: Status,
    /// The cause of the difference, if there is one.
    pub cause: Option<Cause>,
    /// Why it is not corrected, or what failed.
    pub reason: Option<String>,
    /// Since when it is not in line.
    pub since: Option<Timestamp>,
    /// The concessions that cover it now.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conceded_by: Vec<ConcededBy>,
    /// Hours in which it may be corrected by its assignments, within the node's change window: each of these must be open.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub change_windows: Vec<String>,
    /// Its desired properties; contents by digest, concealed values by a keyed name.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub wanted: BTreeMap<String, Value>,
}
