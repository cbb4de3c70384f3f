//! Check-ins of agents, nodes as operators see them, and errors.

use crate::drill::DrillOffer;
pub use crate::generation::Generation;
use crate::inspection::InspectionOffer;
use crate::self_test::SelfTestOffer;
use crate::sweep::SweepOffer;
use constans_core::digest::Digest;
use constans_core::filter::About;
use constans_core::group::GroupFinding;
pub use constans_core::node_status::LastContact;
use constans_core::param::ParameterValue;
use constans_core::run::{AgentUpgrade, Freeze, RestartPending};
use constans_core::settings::{AgentSettings, DescribedSetting};
use constans_core::state::ReplacedValue;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// A check-in of an agent.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CheckIn {
    /// The version of the agent.
    pub agent: String,
    /// The node's clock.
    pub now: Timestamp,
    /// Seconds until its next check-in.
    pub next_in_secs: u64,
    /// What the agent reports about its node.
    pub about: About,
    /// The mark from the last answer; none at first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<Uuid>,
    /// The last generation that it received; none before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub has: Option<Held>,
    /// The name of its machine, by which a server knows its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// The restart that its operating system needs, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart_pending: Option<RestartPending>,
    /// The freezes that it holds; none before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub freezes: Option<HeldFreezes>,
    /// How the agent is with the version that its settings name, if they name one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upgrade: Option<AgentUpgrade>,
}

/// The last generation that a node received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Held {
    /// The digest of its effective state.
    pub digest: Digest,
    /// A number that only rises.
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
    /// The desired state; none while there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wanted: Option<WantedOffer>,
    /// Whether the server is recovering: the node then keeps its state.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub recovering: bool,
    /// The freezes that are in force for the node, if it holds others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub freezes: Option<FreezeOffer>,
    /// The number of the newest wake of the node; none if this server holds no requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wake: Option<i64>,
    /// A self-test that the node is to do; the same at each check-in until it has reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub self_test: Option<SelfTestOffer>,
    /// What the node is to tell of what is there; the same at each check-in until it has told.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub inspections: Vec<InspectionOffer>,
    /// Whether somebody follows its runs, and wants to be told what comes out while they go on.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_followed: bool,
    /// A drill that the node is to do; the same at each check-in until it has begun or refused it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drill: Option<DrillOffer>,
    /// The sweeps that the node is to take part in, the oldest first; the same at each check-in until it has reported.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sweeps: Vec<SweepOffer>,
}

/// The freezes that a node holds, apart from its desired state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HeldFreezes {
    /// Their generation, which only rises.
    pub generation: Generation,
    /// Their digest.
    pub digest: Digest,
    /// Themselves, by the clock of the node.
    #[serde(default)]
    pub freezes: Vec<Freeze>,
}

/// The freezes that are in force for a node, in place of those that it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FreezeOffer {
    /// Their generation, which only rises.
    pub generation: Generation,
    /// Their digest.
    pub digest: Digest,
    /// Themselves.
    pub freezes: Vec<OfferedFreeze>,
}

/// A freeze as a node is given it: its clock may be wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OfferedFreeze {
    /// Its number: 7 is called F7.
    pub no: i64,
    /// How many seconds it lasts from now on.
    pub for_secs: u64,
    /// Why it was set.
    pub because: String,
    /// The addresses of the clauses that it is for, or patterns of them; all clauses, if none is named.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub clauses: BTreeSet<String>,
}

/// The desired state of a node, and the settings of its agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WantedOffer {
    /// The digest of the effective state, by which it is fetched.
    pub digest: Digest,
    /// A number that only rises.
    pub generation: Generation,
    /// The settings of the agent.
    pub settings: AgentSettings,
}

/// Public information about the server, for connection tests of nodes.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Greeting {
    /// The server's version.
    pub server: String,
    /// The server's clock.
    pub now: Timestamp,
}

/// Problem type in answers to a revoked node: its agent ends.
pub const REVOKED: &str = "revoked";
/// Problem type in answers to a retired node: its agent ends.
pub const RETIRED: &str = "retired";

/// An error as `application/problem+json` (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Problem {
    /// A stable name of the problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// What happened, in one sentence.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Details, as text of several lines: for example the findings of a check.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// The number of the change that waits for confirmation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<i64>,
    /// The findings of the check of a group, each with its place in the group.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<GroupFinding>,
}

/// The sources of a node's desired state.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StateSources {
    /// Its stage.
    #[serde(default)]
    pub stage: String,
    /// The groups that it belongs to, the lowest first.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Groups whose filter cannot be evaluated, because the node did not report a field.
    #[serde(default)]
    pub undecidable: Vec<String>,
    /// The applied baselines, in order, as `kit@1.0.0/baseline`.
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
    /// Values of single properties that it has by itself, with what they replaced.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replaced: Vec<ReplacedValue>,
    /// The settings of its agent.
    #[serde(default)]
    pub settings: AgentSettings,
    /// The same in words.
    #[serde(default)]
    pub settings_described: Vec<DescribedSetting>,
    /// Number of clauses of its desired state.
    #[serde(default)]
    pub clauses: usize,
}
