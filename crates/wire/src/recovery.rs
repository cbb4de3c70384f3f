//! Recovering: the server after its database was put back to an earlier day.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Whether the server is recovering.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recovery {
    /// How it is; none if it is not recovering.
    pub recovering: Option<Recovering>,
}

/// A server that is recovering: nodes are offered nothing new and go on with what they have.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recovering {
    /// Since when.
    pub since: Timestamp,
    /// How many nodes this database knows and does not refuse.
    pub nodes: usize,
    /// Those that were not heard since: nobody knows what they have.
    pub not_heard: Vec<String>,
    /// Those that have something else than this database wants of them.
    pub would_change: Vec<String>,
}

/// Ends recovering.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EndRecovery {
    /// Also if nodes were not heard since.
    #[serde(default)]
    pub although_not_heard: bool,
}
