//! Recovering: the server after its database was restored to an earlier state.

use constans_core::run::Freeze;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Whether the server is recovering.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recovery {
    /// The recovery; none if the server is not recovering.
    pub recovering: Option<Recovering>,
}

/// A recovering server: nodes keep their state.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recovering {
    /// Since when.
    pub since: Timestamp,
    /// How many nodes this database knows and does not refuse.
    pub nodes: usize,
    /// Nodes without contact since the restore: their state is unknown.
    pub not_heard: Vec<String>,
    /// Nodes whose state differs from the desired state of this database.
    pub would_change: Vec<String>,
    /// Freezes that nodes hold and that this database does not know: ending the recovery ends them.
    #[serde(default)]
    pub forgotten_freezes: Vec<ForgottenFreeze>,
}

/// A freeze that nodes hold and that the restored database does not know.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ForgottenFreeze {
    /// How many nodes hold it.
    pub nodes: u64,
    /// One of them.
    pub node: String,
    /// Itself, by the clock of that node.
    pub freeze: Freeze,
}

/// Ends the recovery.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EndRecovery {
    /// End it although some nodes have had no contact since the restore.
    #[serde(default)]
    pub although_not_heard: bool,
}
