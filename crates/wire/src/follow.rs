//! Following the runs of a node: while somebody looks, its agent tells what comes out, clause by clause.

use constans_core::address::ClauseAddress;
use constans_core::run::{ClauseResult, ClauseWords, Counts, Mode, Status};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::report::StartedBy;

/// So many clauses are told or asked for at once.
pub const MAX_AT_ONCE: usize = 200;
/// So many are told of one run; what it came to is in its report.
pub const MAX_OF_RUN: u64 = 5_000;

/// A run that is followed, as its agent tells it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToldRun {
    /// How it is.
    pub run: RunUnderWay,
    /// The number of the first of these clauses; the first that is told of a run has 1.
    pub first: u64,
    /// What came out since it told the last time.
    #[serde(default)]
    pub clauses: Vec<ToldClause>,
}

/// What the server says to an agent that tells how a run goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FollowGoesOn {
    /// Whether anybody follows.
    pub is_followed: bool,
}

/// How a run is while it goes on, and what it came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunUnderWay {
    /// The run.
    pub id: Uuid,
    /// When it began, by the clock of the node.
    pub began: Timestamp,
    /// Its mode.
    pub mode: Mode,
    /// What started it.
    pub started_by: StartedBy,
    /// The number of the sweep that it is part of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sweep: Option<i64>,
    /// The place of the clause that is under way among all clauses: 1 is the first, and 0 before it.
    pub reached: u64,
    /// How many clauses there are.
    pub of: u64,
    /// What is done to it, for example `correcting`.
    #[serde(default)]
    pub doing: String,
    /// That clause.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<ClauseAddress>,
    /// For how many milliseconds already.
    #[serde(default)]
    pub for_ms: u64,
    /// How many clauses came out before anybody followed, and are not told.
    #[serde(default)]
    pub before: u64,
    /// What it came to; none while it goes on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<RunEnd>,
}

/// What a run came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunEnd {
    /// Its status.
    pub status: Status,
    /// How many clauses came out how.
    pub counts: Counts,
    /// How many microseconds it took.
    pub took_us: u64,
}

/// What came out of a clause.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToldClause {
    /// Its place among all clauses; the first has 1.
    pub place: u64,
    /// What came out.
    pub result: ClauseResult,
}

/// The runs of a node, as they are followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Follow {
    /// The node.
    pub node: String,
    /// The server's clock.
    pub now: Timestamp,
    /// Since when somebody follows.
    pub since: Timestamp,
    /// Until when the agent tells, unless this is asked again.
    pub until: Timestamp,
    /// Whether the server held a request of the node when that began, by which it was woken.
    pub was_waiting: bool,
    /// When the node was heard last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<Timestamp>,
    /// When it checks in next by itself, as it promised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_check_in: Option<Timestamp>,
    /// The run under way, or the last one that was told of; none before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<RunUnderWay>,
    /// What came out of clauses of that run, after the one that was asked for. At most 200.
    #[serde(default)]
    pub clauses: Vec<FollowedClause>,
}

/// What came out of a clause, with its words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FollowedClause {
    /// Its number, in the order in which they were told.
    pub no: u64,
    /// What came out.
    #[serde(flatten)]
    pub told: ToldClause,
    /// The same in words.
    pub words: ClauseWords,
}
