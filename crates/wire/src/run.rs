//! Runs as operators see them.

use constans_core::run::{Counts, Mode, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// One run, or a row of equal uneventful ones.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RunSummary {
    /// The run; none for a row of uneventful ones.
    pub run: Option<Uuid>,
    /// When it began, by the node's clock; of a row, when the first began.
    pub began: Timestamp,
    /// When the last of a row began.
    pub last: Timestamp,
    /// How many runs this is.
    pub count: i64,
    /// Whether anything could change.
    pub mode: Mode,
    /// The status.
    pub status: Status,
    /// How many clauses came out how; none for a row.
    pub counts: Option<Counts>,
    /// The digest of the state.
    pub state: String,
    /// When the server learned it.
    pub learned: Timestamp,
}

/// What became of a report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Received {
    /// It was stored.
    Stored,
    /// It was stored before: sent twice, stored once.
    Known,
}
