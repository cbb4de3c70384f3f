//! Nodes that were retired, and how one is brought back.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// A node that was retired.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RetiredNode {
    /// Its id.
    pub id: Uuid,
    /// Its name, which another node may have now.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// The fingerprint of its newest key.
    pub fingerprint: Option<String>,
    /// Since when it was of the fleet.
    pub joined_at: Timestamp,
    /// Since when it no longer is.
    pub retired_at: Timestamp,
    /// Who retired it.
    pub retired_by: Option<String>,
    /// Why, if that was given.
    pub because: Option<String>,
    /// The change that did: 118 is called C118.
    pub change: Option<i64>,
    /// Whether another node has its name now.
    pub is_name_in_use: bool,
}

/// How a retired node is brought back.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BringBack {
    /// Another name than it had.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}
