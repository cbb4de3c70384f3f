//! What nodes are given, explained: how their settings differ, and what a node would get.

use constans_core::param::ParameterValue;
use constans_core::settings::{DescribedSetting, DifferingSetting};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How the settings of the agents of a filter's nodes differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingsComparison {
    /// Number of nodes that are compared.
    pub nodes: u64,
    /// Number of nodes for which the filter cannot be evaluated; they are not compared.
    pub undecidable: u64,
    /// The settings in which they differ.
    pub differing: Vec<DifferingSetting>,
    /// Those that are the same on all of them, in words.
    pub same: Vec<String>,
    /// Nodes that did not acknowledge what they are given yet, those that wait longest first; at most 100.
    pub unacknowledged: Vec<UnacknowledgedNode>,
    /// How many there are.
    pub unacknowledged_nodes: u64,
}

/// A node that did not acknowledge what it is given yet: it may still work by other settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnacknowledgedNode {
    /// Its name.
    pub node: String,
    /// Since when its settings are handed out.
    pub since: Timestamp,
    /// When it promised to check in next; none if it never did.
    pub next_check_in: Option<Timestamp>,
}

/// A node that there is or not, of which it is asked what it would get.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WouldBeNode {
    /// Its name: filters and conditions may ask for it.
    pub name: String,
    /// Its labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// A node that reports about itself what this one would, by name; without one nothing is known of that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
}

/// What a node would get.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WouldGet {
    /// The stage that it would be in.
    pub stage: String,
    /// The groups that it would belong to, the lowest first.
    pub groups: Vec<String>,
    /// Groups whose filter cannot be evaluated, since it would not report a field.
    pub undecidable: Vec<String>,
    /// The baselines that it would be assigned, with those that its stage does not serve.
    pub baselines: Vec<WouldGetBaseline>,
    /// The settings of its agent in words.
    pub settings: Vec<DescribedSetting>,
    /// Its parameters.
    pub parameters: BTreeMap<String, ParameterValue>,
    /// Its clauses in order, each with the baselines that it comes from.
    pub clauses: Vec<WouldGetClause>,
    /// Clauses that conditions exclude on it, each with its condition.
    pub excluded: Vec<WouldGetExcluded>,
    /// Why its desired state cannot be resolved; then it has no clauses here.
    pub unusable: Option<String>,
}

/// A baseline that a node would be assigned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WouldGetBaseline {
    /// As `KIT/BASELINE`.
    pub baseline: String,
    /// The version that its stage serves; none if it serves none.
    pub version: Option<String>,
}

/// A clause that a node would have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WouldGetClause {
    /// Its address.
    pub address: String,
    /// The baselines that it comes from, as `KIT@VERSION/BASELINE`.
    pub from: Vec<String>,
}

/// A clause that a condition would exclude on a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WouldGetExcluded {
    /// Its address.
    pub address: String,
    /// The condition that does not hold.
    pub condition: String,
}
