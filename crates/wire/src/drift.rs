//! Drift over the fleet: how often, how long, how it ended, and where.

use crate::run::Episode;
use constans_core::attention::ExceptionSort;
use constans_core::compare::{Difference, TextDiff};
use constans_core::param::ParameterValue;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use uuid::Uuid;

/// The drift of the nodes of a filter in a period.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Drift {
    /// The beginning of the period.
    pub since: Timestamp,
    /// Its end.
    pub until: Timestamp,
    /// Number of nodes for which the filter cannot be evaluated, because they did not report a field; they are not counted.
    pub undecidable: u64,
    /// All episodes.
    pub all: DriftFigures,
    /// The same by the keys of a dimension, if one is asked for: those with the most open episodes first, then those with the most.
    pub rows: Vec<DriftRow>,
    /// Whether there are more rows than are returned.
    pub has_more_rows: bool,
    /// Clauses on nodes that were put right three times or more within the last day, the most often first; at most 100.
    pub recurring: Vec<Recurring>,
}

/// The episodes of one key of a dimension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DriftRow {
    /// The key; none for episodes that have none.
    pub key: Option<String>,
    /// The figures.
    pub figures: DriftFigures,
}

/// Episodes, counted, and how long they lasted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DriftFigures {
    /// Number of episodes that were open at some time of the period.
    pub episodes: u64,
    /// Number of nodes that had one.
    pub nodes: u64,
    /// How many are open at the end of the period.
    pub open: u64,
    /// Of these, the ones whose clause or node only reports drift.
    pub only_reported: u64,
    /// Episodes in which something was broken in a drill; they are in no other figure.
    pub drills: u64,
    /// How many were detected in the period.
    pub detected: u64,
    /// How many ended in the period since the agent corrected them.
    pub corrected: u64,
    /// Since a person put them right on the node.
    pub by_hand: u64,
    /// Since something else is desired.
    pub by_rollout: u64,
    /// Since the clause is no longer desired, or the node left.
    pub no_longer: u64,
    /// Of those detected in the period, the longest time for which the drift may have been there before it was detected: it
    /// happened between nothing and this before.
    pub detected_within: Durations,
    /// Of those that the agent corrected in the period, the time from detection to correction.
    pub corrected_after: Durations,
}

/// How long something took, in seconds; none of nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Durations {
    /// Half of them took at most this.
    pub median_secs: Option<i64>,
    /// 95 of 100 took at most this.
    pub p95_secs: Option<i64>,
    /// The mean.
    pub mean_secs: Option<i64>,
}

/// A clause on a node that was put right again and again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recurring {
    /// The node.
    pub node: String,
    /// The clause.
    pub address: String,
    /// How often.
    pub times: i64,
    /// Since when.
    pub since: Timestamp,
}

/// An episode of a node.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeEpisode {
    /// The node, by the name that it has now.
    pub node: String,
    /// The episode.
    #[serde(flatten)]
    pub episode: Episode,
}

/// A clause side by side on the nodes where it is not in line now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundAcross {
    /// Nodes that have the same differences together, the most nodes first.
    pub alike: Vec<FoundAlike>,
    /// Number of nodes that are listed; at most 200.
    pub nodes: u64,
    /// Whether there are more nodes than are looked at; those that came last are.
    pub has_more_nodes: bool,
}

/// Nodes where the same was found of a clause.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundAlike {
    /// What sort of exception it is.
    pub sort: ExceptionSort,
    /// Why it is not corrected, or what failed, at the first of them.
    pub message: String,
    /// What differs; empty if it could not be inspected, or the run's details are not kept.
    pub differences: Vec<Difference>,
    /// The nodes.
    pub nodes: Vec<FoundOn>,
}

/// A node where something was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundOn {
    /// The node.
    pub node: String,
    /// Since when it is not in line.
    pub since: Timestamp,
    /// The run that found it so.
    pub run: Uuid,
}

/// How what was found of a clause on a node can be accepted: made what is desired.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Acceptable {
    /// The run that found it so.
    pub run: Uuid,
    /// Since when.
    pub since: Timestamp,
    /// What differs.
    pub differences: Vec<Difference>,
    /// How a file's contents differ, as far as it left the node.
    pub text_diff: Option<TextDiff>,
    /// The values of parameters by which just that is desired; empty if there are none.
    pub values: Vec<AcceptedValue>,
    /// Why there are none.
    pub why_not: Option<String>,
    /// The groups of the node, the highest first: the values can be given by one of them.
    pub groups: Vec<AcceptingGroup>,
    /// The values of properties that this node alone would have by which just that is desired; empty if there are none.
    pub alone: Vec<AcceptedAlone>,
    /// Why there are none.
    pub alone_why_not: Option<String>,
}

/// A property and the value that one node alone would have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AcceptedAlone {
    /// The property.
    pub property: String,
    /// The value that it would have.
    pub value: Value,
}

/// A parameter and the value that it would have.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AcceptedValue {
    /// The parameter, as `KIT/BASELINE.PARAM`.
    pub parameter: String,
    /// Its value on the node now, with the layer that it comes from.
    pub now: ParameterValue,
    /// The value that it would have.
    pub value: Value,
}

/// A group that could give a node the accepted values.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AcceptingGroup {
    /// Its name.
    pub name: String,
    /// The number of its nodes: each gets the values.
    pub nodes: u64,
    /// Why it would not do, for example since a higher group gives another value.
    pub why_not: Option<String>,
    /// Other clauses of this node that would be desired otherwise too, by their addresses.
    pub also: Vec<String>,
}

/// Accepts what was found of a clause on a node: a group gives the values by which it is desired, or the node alone has them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Accept {
    /// The node.
    pub node: String,
    /// The clause, by its address.
    pub clause: String,
    /// The run whose finding is accepted; refused if a later one found something else.
    pub run: Uuid,
    /// The group that gives the values; none for this node alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// For this node alone: when it ends. Never by itself if none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}
