//! Activities: long work of the server in progress.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Long work that someone started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Activity {
    /// Description, as `resolving states after a change of the group kiosks`.
    pub what: String,
    /// Who started it.
    pub who: String,
    /// Nodes processed so far.
    pub done: usize,
    /// Nodes to process in all.
    pub total: usize,
    /// When it began.
    pub began: Timestamp,
    /// The sweep, by its number, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sweep: Option<i64>,
    /// The rollout, by the number of its change, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rollout: Option<i64>,
}
