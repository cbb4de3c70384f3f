//! The status of a run: the first that applies; what remains outranks what was put right.

use super::cause::Cause;
use super::result::{ClauseResult, Decision, FailureAt, Leave, Outcome, ReactionState};
use crate::state::SwitchFrom;
use serde::{Deserialize, Serialize};

/// The status of a run, the most severe first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// Something failed.
    Failed,
    /// Drift remains.
    DriftFound,
    /// Out of line since it was wanted here, and only a person can change that.
    Unmet,
    /// Something new waits for mode, window, freeze or switch, or a reaction is due.
    RolloutWaiting,
    /// Drift was corrected.
    DriftCorrected,
    /// Something new was applied.
    RolledOut,
    /// Only unsupported clauses are left.
    NotAllSeen,
    /// Everything is as wanted.
    InLine,
}

impl Status {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Failed,
        Self::DriftFound,
        Self::Unmet,
        Self::RolloutWaiting,
        Self::DriftCorrected,
        Self::RolledOut,
        Self::NotAllSeen,
        Self::InLine,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Failed => "failed",
            Self::DriftFound => "drift found",
            Self::Unmet => "needs a person",
            Self::RolloutWaiting => "rollout waiting",
            Self::DriftCorrected => "drift corrected",
            Self::RolledOut => "rolled out",
            Self::NotAllSeen => "partly unsupported",
            Self::InLine => "in line",
        }
    }
}

/// Number of clauses by outcome.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[expect(missing_docs, reason = "the words are those of Outcome")]
pub struct Counts {
    pub in_line: u64,
    pub corrected: u64,
    pub out_of_line: u64,
    pub blocked: u64,
    pub failed: u64,
    pub unsupported: u64,
    pub idle: u64,
}

impl Counts {
    /// Counts the outcomes.
    pub fn of(results: &[ClauseResult]) -> Self {
        let mut counts = Self::default();
        for result in results {
            *match result.outcome {
                Outcome::InLine => &mut counts.in_line,
                Outcome::Corrected => &mut counts.corrected,
                Outcome::OutOfLine => &mut counts.out_of_line,
                Outcome::Blocked => &mut counts.blocked,
                Outcome::Failed => &mut counts.failed,
                Outcome::Unsupported => &mut counts.unsupported,
                Outcome::Idle => &mut counts.idle,
            } += 1;
        }
        counts
    }
}

/// Returns the status of a run; `reaction_due` says whether any reaction is still due, also of clauses it did not touch.
pub fn status_of(results: &[ClauseResult], reaction_due: bool) -> Status {
    let due = if reaction_due { Status::RolloutWaiting } else { Status::InLine };
    results.iter().map(status_of_clause).min().unwrap_or(Status::InLine).min(due)
}

/// The status that follows from one clause.
pub(crate) fn status_of_clause(result: &ClauseResult) -> Status {
    let own = match result.outcome {
        Outcome::Failed => Status::Failed,
        Outcome::Blocked => match &result.decision {
            Decision::Blocked { by } if by.outcome == Outcome::Failed => Status::Failed,
            _ => remaining(result),
        },
        Outcome::OutOfLine => remaining(result),
        Outcome::Corrected if result.cause == Some(Cause::Drift) || result.also_drifted => {
            Status::DriftCorrected
        }
        Outcome::Corrected => Status::RolledOut,
        Outcome::Unsupported => Status::NotAllSeen,
        Outcome::InLine | Outcome::Idle => Status::InLine,
    };
    let reaction = result.reaction.as_ref().map_or(Status::InLine, |reaction| match reaction.state {
        ReactionState::Failed => Status::Failed,
        ReactionState::Due => Status::RolloutWaiting,
        ReactionState::Done | ReactionState::NotNeeded | ReactionState::Would => Status::InLine,
    });
    own.min(reaction)
}

/// The status that follows from a clause that stays out of line.
pub(crate) fn remaining(result: &ClauseResult) -> Status {
    let drifted = result.cause == Some(Cause::Drift) || result.also_drifted;
    let due = result.would.as_ref().unwrap_or(&result.decision);
    match due {
        _ if drifted => Status::DriftFound,
        _ if result.cause == Some(Cause::TargetMoved) => Status::RolloutWaiting,
        Decision::Leave { why: Leave::OnlyAPerson | Leave::OnRollout { from: SwitchFrom::Clause } } => {
            Status::Unmet
        }
        _ => Status::RolloutWaiting,
    }
}

impl ClauseResult {
    /// Returns whether it failed while being looked at.
    pub fn failed_at(&self) -> Option<FailureAt> {
        self.failure.as_ref().map(|failure| failure.at)
    }
}
