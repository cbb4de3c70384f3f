//! Rollouts: changes that reach their nodes in waves.

use constans_core::change::Confirmed;
use constans_core::rollout::{RolloutPlan, WaveFigures};
use constans_core::run::Status;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A previewed change that is to reach its nodes in waves.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewRollout {
    /// The number of the change: 118 is called C118.
    pub change: i64,
    /// How it goes.
    pub plan: RolloutPlan,
    /// Only look at which nodes each wave would have: nothing is begun.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
    /// What was confirmed of its impact.
    #[serde(default)]
    pub confirmed: Confirmed,
}

/// A rollout that was begun, or a look at one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RolloutBegun {
    /// The waves that it would have, or has.
    pub waves: Vec<PlannedWave>,
    /// Whether it is begun; otherwise it was only looked at, or waits for a second person.
    pub begun: bool,
    /// Whether it waits for a second person.
    #[serde(default)]
    pub requested: bool,
}

/// A wave that a rollout would have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PlannedWave {
    /// How many percent of the nodes have the change after it.
    pub percent: u32,
    /// How many nodes it has.
    pub nodes: u64,
    /// Some of them, by name.
    pub names: Vec<String>,
}

/// Why a rollout is halted, goes on or is turned back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RolloutReason {
    /// The reason, at most 500 characters.
    pub because: String,
}

/// How a rollout stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RolloutStatus {
    /// Wave by wave it goes on by itself.
    Going,
    /// A person halted it, or too many nodes are bad.
    Halted,
    /// Its last wave has settled.
    Done,
    /// Its nodes are as they were before it.
    TurnedBack,
}

impl RolloutStatus {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Going, Self::Halted, Self::Done, Self::TurnedBack];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Going => "going on",
            Self::Halted => "halted",
            Self::Done => "done",
            Self::TurnedBack => "turned back",
        }
    }
}

/// A rollout as it is listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RolloutSummary {
    /// The number of its change: 118 is called C118.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Why, if that was given.
    pub because: Option<String>,
    /// Who approved it, of those who did not ask for it.
    pub approved_by: Option<String>,
    /// How it goes.
    pub plan: RolloutPlan,
    /// How it stands.
    pub status: RolloutStatus,
    /// When it began.
    pub began_at: Timestamp,
    /// The last wave that was handed out; 0 before the first.
    pub reached: u32,
    /// The change that is to hand out the next one, if that is under way.
    pub next_change: Option<i64>,
    /// Why it is halted.
    pub halted: Option<RolloutHalted>,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// By whom.
    pub ended_by: Option<String>,
}

/// That a rollout is halted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RolloutHalted {
    /// Why.
    pub because: String,
    /// By whom.
    pub who: String,
    /// When.
    pub at: Timestamp,
}

/// A rollout, and what came of it so far.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rollout {
    /// Itself.
    pub rollout: RolloutSummary,
    /// Its waves.
    pub waves: Vec<RolloutWave>,
    /// What failed on nodes that finished a run of it, what failed on most nodes first; at most 200.
    pub bad_clauses: Vec<BadClause>,
    /// How many nodes of the waves that have begun are bad, for each value of the label within which the percentages count, the worst first; at
    /// most 200. Empty without one.
    pub within: Vec<BadWithin>,
    /// The server's clock.
    pub now: Timestamp,
}

/// A wave of a rollout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RolloutWave {
    /// Its number, from 1 on.
    pub wave: u32,
    /// How many percent of the nodes have the change after it.
    pub percent: u32,
    /// The change that handed it out; none before.
    pub change: Option<i64>,
    /// When it was handed out.
    pub handed_out_at: Option<Timestamp>,
    /// Since when enough of its nodes have finished a full run of it.
    pub settling_since: Option<Timestamp>,
    /// Until when it settles, as things are.
    pub settles_until: Option<Timestamp>,
    /// How its nodes are.
    pub figures: WaveFigures,
}

/// How many nodes with the same value of a label are bad.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BadWithin {
    /// The value; empty for nodes without the label.
    pub value: String,
    /// Number of nodes in the waves that have begun.
    pub nodes: u64,
    /// How many of them are bad.
    pub bad: u64,
}

/// A clause that failed on nodes of a rollout in the same way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BadClause {
    /// The clause.
    pub address: String,
    /// What happened.
    pub message: String,
    /// On how many nodes.
    pub nodes: u64,
    /// Some of them, by name.
    pub names: Vec<String>,
}

/// How a node of a rollout is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RolloutNodeState {
    /// Its wave is not handed out yet.
    Waiting,
    /// It did not check in since, and is silent: it gets the change when it returns.
    Silent,
    /// It is expected to check in.
    Pending,
    /// It checked in since.
    Received,
    /// It finished a full run of it.
    Finished,
    /// It finished a full run of it, and only observes.
    Untried,
    /// Something failed in its last full run of it.
    Failed,
    /// It cannot be resolved by it.
    Unusable,
    /// It received it and was not heard again when it had promised to check in, before it finished a full run.
    NotHeard,
}

impl RolloutNodeState {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Waiting,
        Self::Silent,
        Self::Pending,
        Self::Received,
        Self::Finished,
        Self::Untried,
        Self::Failed,
        Self::Unusable,
        Self::NotHeard,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Waiting => "its wave is to come",
            Self::Silent => "silent, gets it on return",
            Self::Pending => "expected to check in",
            Self::Received => "received it",
            Self::Finished => "finished a full run",
            Self::Untried => "untried: it observes",
            Self::Failed => "failed",
            Self::Unusable => "cannot be resolved",
            Self::NotHeard => "not heard since it received it",
        }
    }
}

/// A node of a rollout.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RolloutNode {
    /// Its name.
    pub name: String,
    /// Its wave, from 1 on.
    pub wave: u32,
    /// How it is.
    pub state: RolloutNodeState,
    /// The status of its last full run.
    pub status: Option<Status>,
    /// When it was heard last.
    pub heard_at: Option<Timestamp>,
    /// When it checks in next, as it promised.
    pub next_check_in: Option<Timestamp>,
}
