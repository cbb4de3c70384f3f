//! The audit trail.

use constans_core::audit::AuditEntry;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// An entry of the audit trail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShownEntry {
    /// Itself, as it is chained.
    pub entry: AuditEntry,
    /// When.
    pub at: Timestamp,
    /// Its digest in hexadecimal digits; none in the first second or so.
    pub digest: Option<String>,
}

/// The result of recomputing the chain of the audit trail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AuditVerification {
    /// How many entries are chained.
    pub entries: u64,
    /// How many are not yet.
    pub unchained: u64,
    /// The digest of the last one: note it elsewhere, and what was before it cannot be altered unseen.
    pub last: Option<String>,
    /// The number of the first entry that was altered, removed or moved; none if there is none.
    pub broken_at: Option<i64>,
}
