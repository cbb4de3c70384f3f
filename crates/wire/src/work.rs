//! Long work of the server that is under way.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Work that somebody had begun and that takes its time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Work {
    /// What is done, as `resolving states, since the group kiosks is set`.
    pub what: String,
    /// Whose work it is.
    pub who: String,
    /// How many nodes it is done for so far.
    pub done: usize,
    /// How many nodes it is to be done for.
    pub total: usize,
    /// When it began.
    pub began: Timestamp,
}
