//! Settings that a group or a node has for a time.

use crate::change::ChangedBy;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A setting that a group or a node by itself has until a moment.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TemporarySetting {
    /// The group that sets it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// The node that has it by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<String>,
    /// Its word, as `mode`.
    pub word: String,
    /// Its value, in words.
    pub value: String,
    /// Until when.
    pub until: Timestamp,
    /// How many nodes have the group, or 1; a group of higher priority may set it otherwise on some of them.
    pub nodes: u64,
    /// The change that said until when.
    pub change: Option<ChangedBy>,
}
