//! Numbers that only rise, by which older states are recognised.

use serde::{Deserialize, Serialize};

/// A number that only rises: the epoch of the server, then a counter of the node.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Generation {
    /// The server's epoch.
    pub epoch: i64,
    /// Rises with every change of this node.
    pub counter: i64,
}

impl std::fmt::Display for Generation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}", self.epoch, self.counter)
    }
}
