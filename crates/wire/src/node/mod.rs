//! Nodes as operators see them.

mod words;

pub use words::{NodeWords, ProblemWords, desired};

use crate::change::ChangedBy;
use constans_core::filter::About;
use constans_core::node_status::{LastContact, NodeProblem, NodeStatus};
use constans_core::run::{AgentUpgrade, Freeze, Mode, RestartPending, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// A node as operators see it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeSummary {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What its agent reported about it.
    pub about: About,
    /// Its last contact.
    pub last_heard: Option<Timestamp>,
    /// When its next check-in is due.
    pub promised: Option<Timestamp>,
    /// The node's clock minus the server's at the last check-in, in seconds.
    pub clock_off_secs: Option<i64>,
    /// Whether it checks in when due.
    pub last_contact: LastContact,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
    /// End of the validity of its certificate.
    pub certificate_ends: Option<Timestamp>,
    /// The status that lists show.
    pub status: NodeStatus,
    /// Its problems, besides the status of its runs, the most severe first.
    #[serde(default)]
    pub problems: Vec<NodeProblem>,
    /// Number of its clauses with open drift.
    #[serde(default)]
    pub open_episodes: i32,
    /// Its stage.
    #[serde(default)]
    pub stage: Option<String>,
    /// The groups, the lowest first.
    #[serde(default)]
    pub groups: Vec<String>,
    /// The desired releases.
    #[serde(default)]
    pub releases: Vec<String>,
    /// The digest of the desired effective state.
    #[serde(default)]
    pub wanted: Option<String>,
    /// Since when.
    #[serde(default)]
    pub wanted_since: Option<Timestamp>,
    /// The change that altered it last; only where one node is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed_by: Option<ChangedBy>,
    /// The freezes that are in force for it; only where one node is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub freezes: Vec<Freeze>,
    /// Whether the server can have it check in at once; only of one node that is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub can_be_woken: Option<bool>,
    /// Its mode.
    #[serde(default)]
    pub mode: Option<Mode>,
    /// Why its desired state cannot be resolved.
    #[serde(default)]
    pub unusable: Option<String>,
    /// Since when two machines use this identity.
    #[serde(default)]
    pub duplicate_identity_since: Option<Timestamp>,
    /// When its agent lost its memory.
    #[serde(default)]
    pub memory_lost_at: Option<Timestamp>,
    /// The restart that its operating system needs, if any.
    #[serde(default)]
    pub restart_pending: Option<RestartPending>,
    /// How its agent is with the version that its settings name, if they name one.
    #[serde(default)]
    pub agent_upgrade: Option<AgentUpgrade>,
    /// Its last full run.
    #[serde(default)]
    pub run: Option<Uuid>,
    /// The status of its last full run.
    #[serde(default)]
    pub run_status: Option<Status>,
    /// When that run began, by the clock of the node.
    #[serde(default)]
    pub run_began: Option<Timestamp>,
    /// The digest of the state that it ran.
    #[serde(default)]
    pub has: Option<String>,
    /// The releases that it ran.
    #[serde(default)]
    pub has_releases: Vec<String>,
    /// The same in words.
    pub words: NodeWords,
}
