//! Sweeps: runs over chosen nodes that a person asks for.

use crate::generation::Generation;
use constans_core::address::ClauseAddress;
use constans_core::run::{Counts, Observed, Status};
use constans_core::sentence::Sentence;
use constans_core::sweep::{FailedClause, NodePreview, Refused, SweepOrder};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

/// A sweep that a node is to take part in, in the answer to a check-in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepOffer {
    /// By this it is known; numbers begin anew when a database is put back.
    pub id: Uuid,
    /// Its number: 118 is called S118.
    pub no: i64,
    /// For how many seconds it may still be begun: the node's clock may be wrong.
    pub ends_in_secs: u64,
    /// What is asked for.
    pub order: SweepOrder,
    /// The generation that the node has to have first; none if nothing was wanted of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generation: Option<Generation>,
    /// What an observing run would have corrected: exactly this is. All may be, if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<std::collections::BTreeMap<String, constans_core::run::ObservedClause>>))]
    pub observed: Option<Observed>,
    /// Who asks.
    pub who: String,
    /// Why.
    pub because: String,
}

/// The sweep that a run was part of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweptRun {
    /// By this it is known.
    pub id: Uuid,
    /// Its number: 118 is called S118.
    pub no: i64,
    /// Whether the run was stopped before its end.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_stopped: bool,
}

/// How far the run of a node in a sweep is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepProgress {
    /// How many clauses it has begun; 0 while it waits for another run to end.
    pub reached: u64,
    /// How many there are.
    pub of: u64,
    /// What is done, for example `correcting`.
    pub doing: String,
    /// To which clause.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<ClauseAddress>,
    /// For how many milliseconds already.
    pub for_ms: u64,
    /// How many milliseconds the last whole run in this mode took; none if this is a run of a part, or that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_took_ms: Option<u64>,
}

/// What the server says to a node that told how far it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepGoesOn {
    /// Whether it is to begin no further clause.
    pub stop: bool,
}

/// A sweep to be begun, or only looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewSweep {
    /// What each node is to do.
    pub order: SweepOrder,
    /// The nodes by name.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub nodes: BTreeSet<String>,
    /// Or those that a condition selects (CEL); all nodes if it is empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Or those of an observing sweep, by its number: exactly what it found is corrected.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<i64>,
    /// Whether more than one node is enforced without having been observed first.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub directly: bool,
    /// Why.
    pub because: String,
    /// From when on nodes may begin it, for example when their change windows are open; at once if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begins_at: Option<Timestamp>,
    /// For how many seconds from then on.
    #[serde(default = "an_hour")]
    pub for_secs: u64,
    /// Whether it is only looked at: nothing is begun.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
}

fn an_hour() -> u64 {
    3_600
}

/// What a sweep would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepPlan {
    /// What is asked for, in words.
    pub what: String,
    /// How many nodes.
    pub nodes: u64,
    /// How many of them would be asked: nothing is known against it.
    pub asked: u64,
    /// How many of those can be woken; the others begin with their next check-ins.
    pub can_be_woken: u64,
    /// How many are silent: they take part if they are heard before its end.
    pub silent: u64,
    /// How many clauses would be corrected, by what the last runs found.
    pub correct: u64,
    /// How many nodes these are on.
    pub correct_on: u64,
    /// Number of nodes on which something would be left, by why, as a word: `window`.
    pub left_on: std::collections::BTreeMap<String, u64>,
    /// When the last of the closed change windows opens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opens: Option<Timestamp>,
    /// Node by node, those of which something is to be said first; at most 1,000.
    pub each: Vec<PlannedNode>,
}

/// What a sweep would do on a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlannedNode {
    /// Its name.
    pub name: String,
    /// Why it would do nothing, if it would not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<Sentence>,
    /// Who set its mode, if that is what is against it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode_from: Option<String>,
    /// What would be done, by what its last run found; none before its first run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preview: Option<NodePreview>,
    /// When the server learned of that run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_of: Option<Timestamp>,
    /// When its change window opens, if it is closed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opens: Option<Timestamp>,
    /// Whether it is silent.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_silent: bool,
}

/// A sweep that was begun, or a look at one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepBegun {
    /// Its number; none if it was only looked at.
    pub no: Option<i64>,
    /// What it would do, or does.
    pub plan: SweepPlan,
}

/// How a sweep is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SweepStatus {
    /// It goes on.
    Running,
    /// Every node has reported, or refused.
    Done,
    /// Its time is over, and some nodes have not reported.
    Over,
    /// A person stopped it.
    Stopped,
}

impl SweepStatus {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Over => "over",
            Self::Stopped => "stopped",
        }
    }
}

/// A sweep, and what came of it so far.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sweep {
    /// Its number: 118 is called S118.
    pub no: i64,
    /// What is asked for, in words.
    pub what: String,
    /// What is asked for.
    pub order: SweepOrder,
    /// The nodes in words: a filter, or names.
    pub which: String,
    /// By whom.
    pub who: String,
    /// Why.
    pub because: String,
    /// When.
    pub asked_at: Timestamp,
    /// From when on nodes may begin it.
    pub begins_at: Timestamp,
    /// Until when.
    pub ends_at: Timestamp,
    /// How it is.
    pub status: SweepStatus,
    /// When the last node reported; none before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_done_at: Option<Timestamp>,
    /// When the runs under way end, if each takes as long as the last one of its node; none if that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_end: Option<Timestamp>,
    /// By whom it was stopped, and when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopped: Option<Stopped>,
    /// The observing sweep whose findings it corrects.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<i64>,
    /// The sweep that corrects what this one found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub enforced_by: Option<i64>,
    /// Number of nodes.
    pub counts: SweepCounts,
    /// The server's clock.
    pub now: Timestamp,
}

/// A sweep was stopped.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Stopped {
    /// By whom.
    pub who: String,
    /// When.
    pub at: Timestamp,
}

/// Numbers of nodes of a sweep. Those that are pending, offered, begun, done, refused and not reached add up to `nodes`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepCounts {
    /// All.
    pub nodes: u64,
    /// Not offered yet.
    pub pending: u64,
    /// Of these, those that are silent: they take part if they are heard before its end.
    pub silent: u64,
    /// Offered, and nothing heard since.
    pub offered: u64,
    /// Running.
    pub begun: u64,
    /// Reported.
    pub done: u64,
    /// Refused.
    pub refused: u64,
    /// Neither reported nor refused when it was over.
    pub not_reached: u64,
    /// Reported that all they examined is in line.
    pub in_line: u64,
    /// Of all nodes, those that were in line when it was asked for.
    pub in_line_before: u64,
    /// Reported that something failed.
    pub failed: u64,
    /// Reported that something was corrected.
    pub corrected: u64,
    /// Reported that something was left.
    pub left: u64,
    /// How many clauses an enforcing run would correct, or was to correct.
    pub would: u64,
    /// How many clauses were corrected.
    pub corrected_clauses: u64,
    /// How many clauses were left since they changed after they were observed.
    pub changed_since: u64,
}

/// How a node of a sweep is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SweptState {
    /// Not offered yet.
    Pending,
    /// Offered, and nothing heard since.
    Offered,
    /// Running.
    Begun,
    /// Reported.
    Done,
    /// It does nothing of it.
    Refused,
    /// Neither reported nor refused when it was over.
    NotReached,
}

impl SweptState {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Pending => "not received yet",
            Self::Offered => "received",
            Self::Begun => "running",
            Self::Done => "done",
            Self::Refused => "refused",
            Self::NotReached => "not reached",
        }
    }
}

/// A node of a sweep.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweptNode {
    /// Its name.
    pub name: String,
    /// How it is.
    pub state: SweptState,
    /// How it is, in one sentence.
    pub words: Sentence,
    /// The status of its run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<Status>,
    /// Whether all that it examined is in line; none before it reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub is_in_line: Option<bool>,
    /// Its run, if it is kept whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<Uuid>,
    /// How many clauses it has begun.
    pub reached: u64,
    /// Of how many; 0 if that is not known.
    pub of: u64,
    /// How many clauses an enforcing run would correct, or this one was to correct.
    pub would: u64,
    /// Number of clauses by outcome.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counts: Option<Counts>,
    /// How long its run took, or takes already, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<u64>,
    /// How long the last whole run in this mode took, in milliseconds, while this one goes on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_took_ms: Option<u64>,
    /// Why it does nothing of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<Refused>,
    /// When it is to check in next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_check_in: Option<Timestamp>,
}

/// A clause that failed on nodes of a sweep in the same way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepFailure {
    /// The clause and what happened.
    #[serde(flatten)]
    pub failed: FailedClause,
    /// On how many nodes.
    pub nodes: u64,
    /// Their names, at most 20.
    pub names: Vec<String>,
}

/// Nodes by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NamedNodes {
    /// How many.
    pub nodes: u64,
    /// Their names, at most 50.
    pub names: Vec<String>,
}

/// What two sweeps came to on the nodes that both reported of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SweepComparison {
    /// The earlier one.
    pub before: Sweep,
    /// The later one.
    pub after: Sweep,
    /// How many nodes reported in both.
    pub both: u64,
    /// In line in the later one and not in the earlier one.
    pub in_line_now: NamedNodes,
    /// The other way round.
    pub out_of_line_now: NamedNodes,
    /// Out of line in both.
    pub out_of_line_still: NamedNodes,
    /// Clauses that failed in the earlier one and in no node of the later one.
    pub failures_over: Vec<SweepFailure>,
    /// Clauses that fail in the later one.
    pub failures_now: Vec<SweepFailure>,
}
