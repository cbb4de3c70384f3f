//! Groups, as they are shown and edited.

use crate::change::{ChangedBy, HowToChange};
use constans_core::change::GroupEdit;
use constans_core::group::{Group, GroupMembers, GroupView};
use constans_core::kit::Severity;
use serde::{Deserialize, Serialize};

/// This many edits of a group are made at once at most.
pub const MAX_GROUP_EDITS: usize = 200;

/// A group in the list of groups.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GroupListed {
    /// The group.
    pub group: Group,
    /// Number of its nodes.
    pub nodes: u64,
}

/// A baseline of the newest release of a kit, which can be assigned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BaselineListed {
    /// The kit.
    pub kit: String,
    /// The newest release.
    pub version: String,
    /// The baseline.
    pub baseline: String,
    /// What it is for.
    pub summary: String,
    /// Number of clauses that it writes, before conditions and loops are applied.
    pub clauses: u64,
    /// The severity of clauses that set none.
    pub severity: Severity,
    /// The groups that assign it.
    pub assigned_by: Vec<String>,
    /// By which assignments nodes of the fleet are given it now, itself or since another one includes it.
    pub given_by: Vec<BaselineGiven>,
}

/// An assignment by which nodes are given a baseline.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BaselineGiven {
    /// The group, or `this node` for those that are given it by themselves.
    pub group: String,
    /// The assigned baseline, as `KIT/BASELINE`: itself, or one that includes it.
    pub assigned: String,
    /// How many nodes.
    pub nodes: u64,
}

/// A group with what it gives, and who changed it last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GroupShown {
    /// The group.
    pub group: Group,
    /// What it gives its nodes, beside what other groups give the same nodes.
    pub view: GroupView,
    /// The change that edited it last; none as long as it is as it was in the beginning.
    pub changed: Option<ChangedBy>,
    /// Which nodes it has.
    pub members: GroupMembers,
}

/// A filter and named members that are tried out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct TryMembers {
    /// The filter in CEL.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// The named members, at most 10,000.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<String>,
    /// The group that nodes come to and go from, if it is one that exists.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
}

/// Edits of a group.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EditGroup {
    /// The edits, made one after the other, all or none; at most 200.
    pub edits: Vec<GroupEdit>,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}

/// Edits of what a node is given by itself.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EditNode {
    /// The edits, made one after the other, all or none; at most 200. A node by itself is given baselines, parameters and settings.
    pub edits: Vec<GroupEdit>,
    /// How the change is to be made.
    #[serde(flatten)]
    pub how: HowToChange,
}
