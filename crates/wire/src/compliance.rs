//! Compliance: how many clauses and nodes are as desired, of any moment.

use constans_core::compliance::{ClauseCounts, Move, NodeCounts};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};

/// The compliance of the nodes that a filter selects, at a moment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Compliance {
    /// The moment that the figures are of.
    pub as_of: Timestamp,
    /// What the server had learned by then counts.
    pub as_known_at: Timestamp,
    /// Number of nodes that were of the fleet at the moment.
    pub nodes_in_all: u64,
    /// Number of nodes for which the filter cannot be evaluated, because they did not report a field; they are not counted.
    pub undecidable: u64,
    /// The nodes that have clauses.
    pub nodes: NodeCounts,
    /// The clauses on these nodes.
    pub clauses: ClauseCounts,
    /// The share of the clauses that is compliant as found, in hundredths of a percent, rounded down; none of nothing.
    pub rate_basis_points: Option<u64>,
    /// The same of the clauses that are not conceded.
    pub rate_with_concessions_basis_points: Option<u64>,
    /// The same by the keys of a dimension, if one is asked for: those with the most clauses that are not compliant first.
    pub rows: Vec<ComplianceRow>,
    /// Whether there are more rows than are returned.
    pub has_more_rows: bool,
}

/// The examinations that the figures of a moment rely on: the last full runs of nodes of which something is known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Examinations {
    /// The moment that the figures are of.
    pub as_of: Timestamp,
    /// What the server had learned by then counts.
    pub as_known_at: Timestamp,
    /// Number of nodes whose last full run counts.
    pub nodes: u64,
    /// The node whose last full run is the oldest of them.
    pub oldest_node: Option<String>,
    /// When that was, at the earliest.
    pub oldest_at: Option<Timestamp>,
    /// Number of nodes that ran again before the moment, and no report came of that run: the figures rely on the run before it.
    pub nodes_with_missing_runs: u64,
    /// How many clauses these runs knew by the metadata of their files, which had not changed since they were read, at most a day before: at
    /// most, where several runs that found the same are kept as one.
    pub clauses_by_metadata: u64,
}

/// The compliance of one key of a dimension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComplianceRow {
    /// The key; none for clauses and nodes that have none: clauses that satisfy no control, nodes without the label.
    pub key: Option<String>,
    /// What it is called: of controls that the catalogue has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The nodes that have clauses of this key.
    pub nodes: NodeCounts,
    /// These clauses.
    pub clauses: ClauseCounts,
    /// The share of the clauses that is compliant as found, in hundredths of a percent, rounded down.
    pub rate_basis_points: Option<u64>,
    /// The same of the clauses that are not conceded.
    pub rate_with_concessions_basis_points: Option<u64>,
}

/// The compliance at the end of each day of a period, in UTC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComplianceDays {
    /// The days, the first one first; the last one may not be over.
    pub days: Vec<ComplianceDay>,
    /// The time zone in which days end now.
    pub zone: String,
    /// The changes that were handed out in the period and gave nodes something else; at most 500, the last ones.
    pub changes: Vec<NamedChange>,
}

/// The compliance at the end of a day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComplianceDay {
    /// The day.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = Date))]
    pub day: Date,
    /// Its beginning, in the zone in which days ended then.
    pub from: Timestamp,
    /// The moment that the figures are of: its end, or now if it is not over.
    pub at: Timestamp,
    /// Whether it is over.
    pub is_over: bool,
    /// The nodes that had clauses.
    pub nodes: NodeCounts,
    /// The clauses on these nodes.
    pub clauses: ClauseCounts,
    /// The share of the clauses that is compliant as found, in hundredths of a percent, rounded down; none of nothing.
    pub rate_basis_points: Option<u64>,
    /// The same of the clauses that are not conceded.
    pub rate_with_concessions_basis_points: Option<u64>,
}

/// Why the rate moved between two moments.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComplianceMoves {
    /// The first moment.
    pub since: Timestamp,
    /// The second one.
    pub as_of: Timestamp,
    /// What the server had learned by then counts, for both.
    pub as_known_at: Timestamp,
    /// The clauses at the first moment.
    pub before: ClauseCounts,
    /// The clauses at the second one.
    pub after: ClauseCounts,
    /// The share that was compliant as found at the first moment, in hundredths of a percent, rounded down.
    pub rate_before_basis_points: Option<u64>,
    /// The share at the second one.
    pub rate_after_basis_points: Option<u64>,
    /// What moved, by reason and change; these add up.
    pub moves: Vec<Move>,
    /// The changes that are among the reasons.
    pub changes: Vec<NamedChange>,
}

/// A change with what names it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NamedChange {
    /// Its number: 118 is called C118.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Who approved it, if it was another person.
    pub approved_by: Option<String>,
    /// When it was handed out.
    pub handed_out_at: Timestamp,
}
