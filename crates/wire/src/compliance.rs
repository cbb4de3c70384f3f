//! Compliance: how many clauses and nodes are as desired, of any moment.

use constans_core::compliance::{ClauseCounts, NodeCounts};
use jiff::Timestamp;
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
    /// The share of the clauses that is compliant, in hundredths of a percent, rounded down; none of nothing.
    pub rate_basis_points: Option<u64>,
    /// The same by the keys of a dimension, if one is asked for: those with the most clauses that are not compliant first.
    pub rows: Vec<ComplianceRow>,
    /// Whether there are more rows than are returned.
    pub has_more_rows: bool,
}

/// The compliance of one key of a dimension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ComplianceRow {
    /// The key; none for clauses and nodes that have none: clauses that satisfy no control, nodes without the label.
    pub key: Option<String>,
    /// The nodes that have clauses of this key.
    pub nodes: NodeCounts,
    /// These clauses.
    pub clauses: ClauseCounts,
    /// The share of the clauses that is compliant, in hundredths of a percent, rounded down.
    pub rate_basis_points: Option<u64>,
}
