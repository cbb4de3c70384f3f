//! Events: what was noticed of nodes, and what people did.

use constans_core::node_status::NodeStatus;
use constans_core::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use uuid::Uuid;

/// An event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Event {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: Timestamp,
    /// `act`, `handed_out`, `joined` or `revoked` of what someone did; of a node `drift_found`, `drift_ended`, `run_failed`,
    /// `run_recovered`, `silent`, `checked_in_again`, `duplicate_identity` or `certificate_ends`. Newer servers may have others.
    pub kind: String,
    /// Who did it; none of what was noticed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// What it is about, by the name that it had.
    pub subject: String,
    /// The name that the node has now, if it is about a node that is not retired.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<String>,
    /// The run that noticed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<Uuid>,
    /// The number of the change, if it was handed out or decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<i64>,
    /// The status whose symbol and colour it is shown with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<NodeStatus>,
    /// What happened, in words that follow `who`, or the subject of what was noticed.
    pub words: Sentence,
    /// More of it.
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub detail: Value,
}

/// A page of events.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EventPage {
    /// The events.
    pub events: Vec<Event>,
    /// Where to go on, as `after`: after the last of these; of the newest, after the last event before which none will appear any more.
    pub next: String,
}
