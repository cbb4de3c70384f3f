//! Check-ins of agents, nodes as operators see them, and errors.

use constans_core::digest::Digest;
use constans_core::filter::About;
use constans_core::param::ParameterValue;
use constans_core::run::{Mode, RestartPending, Status};
use constans_core::settings::{AgentSettings, ToldSetting};
pub use constans_core::standing::Hearing;
use constans_core::standing::{Sign, Trouble};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// What an agent says when it contacts the server.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CheckIn {
    /// The version of the agent.
    pub agent: String,
    /// The node's clock.
    pub now: Timestamp,
    /// In how many seconds it comes next.
    pub next_in_secs: u64,
    /// What it found out about its node.
    pub about: About,
    /// The mark that the last answer gave; none at first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<Uuid>,
    /// What it was given last; none before anything was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub has: Option<Held>,
    /// That its operating system needs a restart.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart_pending: Option<RestartPending>,
}

/// What a node was given last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Held {
    /// The digest of its effective state.
    pub digest: Digest,
    /// What only rises.
    pub generation: Generation,
}

/// What the server answers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CheckInAnswer {
    /// The node's name.
    pub name: String,
    /// The server's clock.
    pub now: Timestamp,
    /// The mark to show at the next check-in.
    pub mark: Uuid,
    /// What the node is wanted to be; none before anything is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wanted: Option<WantedOffer>,
    /// Whether the server is recovering: then it offers nothing, and what the node has stays.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub recovering: bool,
}

/// What a node is wanted to be, and how its agent is set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WantedOffer {
    /// The digest of the effective state, which is fetched by it.
    pub digest: Digest,
    /// What only rises.
    pub generation: Generation,
    /// How the agent is set.
    pub settings: AgentSettings,
}

/// What only rises: the server's epoch, then a counter of the node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Generation {
    /// The server's epoch.
    pub epoch: i64,
    /// Rises with every change for this node.
    pub counter: i64,
}

impl std::fmt::Display for Generation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}", self.epoch, self.counter)
    }
}

/// What the server says to anybody who asks: for finding out why a node cannot be heard.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Greeting {
    /// The server's version.
    pub server: String,
    /// The server's clock.
    pub now: Timestamp,
}

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
    /// What it found out about itself.
    pub about: About,
    /// When it was heard last.
    pub last_heard: Option<Timestamp>,
    /// When it promised to come next.
    pub promised: Option<Timestamp>,
    /// The node's clock minus the server's at the last check-in, in seconds.
    pub clock_off_secs: Option<i64>,
    /// Whether it was heard when it promised.
    pub hearing: Hearing,
    /// Since when it is refused.
    pub revoked_at: Option<Timestamp>,
    /// Until when its certificate holds.
    pub certificate_ends: Option<Timestamp>,
    /// The one sign that it is shown by.
    pub sign: Sign,
    /// What is wrong about it beside the status of its runs, the gravest first.
    #[serde(default)]
    pub troubles: Vec<Trouble>,
    /// How many of its clauses are out of line by drift and stay so.
    #[serde(default)]
    pub open_episodes: i32,
    /// What is wanted of it and what it has said of itself last.
    #[serde(default)]
    pub standing: NodeStanding,
}

/// What is wanted of a node, and what its last full run said.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeStanding {
    /// Its stage.
    #[serde(default)]
    pub stage: Option<String>,
    /// Its groups, the lowest first.
    #[serde(default)]
    pub groups: Vec<String>,
    /// The releases that it is wanted to have.
    #[serde(default)]
    pub releases: Vec<String>,
    /// The digest of the effective state that is wanted.
    #[serde(default)]
    pub wanted: Option<String>,
    /// Since when.
    #[serde(default)]
    pub wanted_since: Option<Timestamp>,
    /// Its mode.
    #[serde(default)]
    pub mode: Option<Mode>,
    /// Why its state cannot be resolved.
    #[serde(default)]
    pub unusable: Option<String>,
    /// Since when two machines were seen with this identity.
    #[serde(default)]
    pub double_since: Option<Timestamp>,
    /// Since when its agent has lost what it remembered.
    #[serde(default)]
    pub memory_lost_at: Option<Timestamp>,
    /// That its operating system needs a restart.
    #[serde(default)]
    pub restart_pending: Option<RestartPending>,
    /// Its last full run.
    #[serde(default)]
    pub run: Option<Uuid>,
    /// The status of its last full run.
    #[serde(default)]
    pub status: Option<Status>,
    /// When that run began, by the node's clock.
    #[serde(default)]
    pub run_began: Option<Timestamp>,
    /// The digest of the state that it ran.
    #[serde(default)]
    pub has: Option<String>,
    /// The releases that it ran.
    #[serde(default)]
    pub has_releases: Vec<String>,
}

/// The type of the problem that a revoked node is answered with: its agent ends.
pub const REVOKED: &str = "revoked";
/// The type of the problem that a retired node is answered with: its agent ends.
pub const RETIRED: &str = "retired";

/// An error as `application/problem+json` (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Problem {
    /// A stable word for it.
    #[serde(rename = "type")]
    pub kind: String,
    /// One fact.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// More than one fact, as text of several lines: the findings of a check.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// Why a node is wanted to be what it is: where each part of it comes from.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Explained {
    /// Its stage.
    #[serde(default)]
    pub stage: String,
    /// The groups that it belongs to, the lowest first.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Groups whose filter asks for what the node did not report.
    #[serde(default)]
    pub undecidable: Vec<String>,
    /// The baselines that count, in order, as `kit@1.0.0/baseline`.
    #[serde(default)]
    pub baselines: Vec<String>,
    /// Assigned baselines that its stage does not serve.
    #[serde(default)]
    pub not_served: Vec<String>,
    /// Clauses that conditions exclude, each with its condition.
    #[serde(default)]
    pub excluded: Vec<(String, String)>,
    /// Parameters by `KIT/BASELINE.PARAM`, with the layer that each value comes from.
    #[serde(default)]
    pub parameters: BTreeMap<String, ParameterValue>,
    /// How its agent is set.
    #[serde(default)]
    pub settings: AgentSettings,
    /// The same in words.
    #[serde(default)]
    pub settings_told: Vec<ToldSetting>,
    /// How many clauses it is wanted to keep.
    #[serde(default)]
    pub clauses: usize,
}
