//! Evidence: what is asked for, how far it is, and the chain of days.

use constans_core::evidence::{DayLink, Figures, KeyEntry, Question};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A format in which the clauses are written besides CSV, which is always there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum EvidenceFormat {
    /// One JSON document.
    Json,
    /// A page that prints well.
    Html,
    /// A spreadsheet.
    Xlsx,
    /// OSCAL assessment results with their plan.
    Oscal,
}

impl EvidenceFormat {
    /// Returns its word, the one of JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Json => "json",
            Self::Html => "html",
            Self::Xlsx => "xlsx",
            Self::Oscal => "oscal",
        }
    }
}

/// Evidence that is asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewEvidence {
    /// Which nodes: CEL over labels, about and node.name, as they are now; all if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Only clauses that satisfy one of these controls, at most 100; all clauses if there is none.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[cfg_attr(feature = "schema", schema(max_items = 100))]
    pub controls: BTreeSet<String>,
    /// The moment that the figures are of; now if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_of: Option<Timestamp>,
    /// Only what the server had learned by this moment counts, not before `as_of`; now if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_known_at: Option<Timestamp>,
    /// List also the deviations that were open at any time from here to `as_of`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<Timestamp>,
    /// The formats besides CSV.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub formats: BTreeSet<EvidenceFormat>,
    /// Why, at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// How far evidence is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum EvidenceStatus {
    /// It waits, or is being made.
    Waiting,
    /// Its file is there.
    Made,
    /// It could not be made.
    Failed,
    /// Somebody stopped it.
    Stopped,
    /// Its file was removed.
    Removed,
}

/// Evidence that was asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Evidence {
    /// Its number: 3 is called E3.
    pub no: i64,
    /// What it answers.
    pub question: Question,
    /// The formats besides CSV.
    pub formats: BTreeSet<EvidenceFormat>,
    /// Why it was asked for.
    pub because: Option<String>,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked: Timestamp,
    /// How far it is.
    pub status: EvidenceStatus,
    /// Whether its making has begun.
    pub is_begun: bool,
    /// How many nodes are done.
    pub done: u64,
    /// Of how many.
    pub total: u64,
    /// Why it failed, or who stopped or removed it.
    pub ended_because: Option<String>,
    /// When it was made, failed, was stopped or removed.
    pub ended: Option<Timestamp>,
    /// Until when its file is kept; of one that was made.
    pub kept_until: Option<Timestamp>,
    /// Number of clauses on nodes; of one that was made.
    pub rows: Option<u64>,
    /// The size of its file in bytes; of one that was made.
    pub bytes: Option<u64>,
    /// The SHA-256 of its file in hexadecimal digits; of one that was made.
    pub sha256: Option<String>,
    /// The id of the key that signed it; of one that was made.
    pub key: Option<String>,
    /// Its figures; of one that was made.
    pub figures: Option<Figures>,
}

/// The keys that sign evidence, and the chain of days.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EvidenceChain {
    /// The public parts of the keys, the first one first; the last one signs.
    pub keys: Vec<KeyEntry>,
    /// The chain, the first day first.
    pub days: Vec<DayLink>,
}

/// A day of the chain that was computed again from the history.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DayChecked {
    /// The day in UTC.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = Date))]
    pub day: Date,
    /// How many rows were learned, as the history has it now.
    pub rows: u64,
    /// What is wrong: nothing, if the history gives the digest that was chained and noted.
    pub fault: Option<String>,
}
