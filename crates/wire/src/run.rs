//! Runs as operators see them.

use crate::report::DidNotEnd;
use constans_core::episode::ClosedAs;
use constans_core::kit::Severity;
use constans_core::run::{Counts, Mode, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// One run, or a span of equal uneventful ones.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunSummary {
    /// The run; none for a span of uneventful ones.
    pub run: Option<Uuid>,
    /// When it began, by the clock of the node; of a span, when the first run began.
    pub began: Timestamp,
    /// When the last run of the span began.
    pub last: Timestamp,
    /// How many runs this is.
    pub count: i64,
    /// Whether anything could change.
    pub mode: Mode,
    /// The status.
    pub status: Status,
    /// Number of clauses by outcome; none for a span.
    pub counts: Option<Counts>,
    /// The digest of the state.
    pub state: String,
    /// When the server learned it.
    pub learned: Timestamp,
    /// Whether it was a partial run.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub partial: bool,
    /// The progress of an interrupted run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub did_not_end: Option<DidNotEnd>,
}

/// An episode of drift of a clause on a node, from when it was last known to be in line to when it was in line again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Episode {
    /// The clause.
    pub address: String,
    /// Its severity.
    pub severity: Severity,
    /// The last moment that the clause was known to be in line: the drift happened after it.
    pub in_line_until: Timestamp,
    /// When it was detected: the drift happened before it.
    pub detected_at: Timestamp,
    /// The run that detected it.
    pub detected_run: Uuid,
    /// When it was in line again, or no longer desired; none while the episode is open.
    pub closed_at: Option<Timestamp>,
    /// How it ended.
    pub closed_as: Option<ClosedAs>,
    /// The run that ended it.
    pub closed_run: Option<Uuid>,
}

/// The result of sending a report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Received {
    /// It was stored.
    Stored,
    /// It was already stored: a report sent twice is stored once.
    Known,
}
