//! How a wave is doing.

use super::RolloutPlan;
use serde::{Deserialize, Serialize};

/// At least so many nodes are bad when a rollout halts, or all that are heard of a smaller wave.
const FEWEST_BAD: u64 = 3;
/// So many tenths of the heard nodes of a wave have finished a full run when it begins to settle.
const FINISHED_TENTHS: u64 = 9;

/// How the nodes of a wave are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WaveFigures {
    /// How many there are.
    pub nodes: u64,
    /// How many did not check in since the wave and are silent: they count as neither good nor bad, and get it when they return.
    pub silent: u64,
    /// How many checked in since the wave and so received it; those that cannot be resolved by it are among them.
    pub received: u64,
    /// How many finished a full run of it.
    pub finished: u64,
    /// How many of those only observe: on them it is untried.
    pub untried: u64,
    /// How many failed in the last full run of it.
    pub failed: u64,
    /// How many cannot be resolved.
    pub unusable: u64,
    /// How many were not heard again after they received it when they had promised to check in, before they finished a full run.
    pub not_heard: u64,
}

/// What is to be done about a wave.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Judged {
    /// Too many of its nodes are bad.
    TooBad,
    /// Too few of its nodes have finished a full run.
    Unfinished,
    /// Enough of them have: it settles.
    Finished,
}

impl WaveFigures {
    /// Returns how many nodes are bad; each is counted once.
    pub fn bad(&self) -> u64 {
        self.failed + self.unusable + self.not_heard
    }

    /// Returns how many nodes are heard.
    pub fn heard(&self) -> u64 {
        self.nodes.saturating_sub(self.silent)
    }

    /// Returns what is to be done. A wave of which no node is heard does not settle, since nothing is known of it; one without nodes does.
    pub fn judged(&self, plan: &RolloutPlan) -> Judged {
        let bad = self.bad();
        let is_above = bad * 100 > u64::from(plan.bad_above_percent) * self.received;
        if bad > 0 && bad >= FEWEST_BAD.min(self.heard()) && is_above {
            Judged::TooBad
        } else if self.nodes > 0 && self.heard() == 0 || self.finished * 10 < self.heard() * FINISHED_TENTHS {
            Judged::Unfinished
        } else {
            Judged::Finished
        }
    }

    /// Returns what is bad, in words: `3 of 12 nodes that received it are bad: 2 failed, 1 not heard since`.
    pub fn bad_words(&self) -> String {
        let parts = [
            (self.failed, "failed"),
            (self.unusable, "cannot be resolved"),
            (self.not_heard, "not heard since"),
        ];
        let parts =
            parts.iter().filter(|(count, _)| *count > 0).map(|(count, word)| format!("{count} {word}"));
        let (verb, nodes) =
            (if self.bad() == 1 { "is" } else { "are" }, if self.received == 1 { "node" } else { "nodes" });
        format!(
            "{} of {} {nodes} that received it {verb} bad: {}",
            self.bad(),
            self.received,
            parts.collect::<Vec<_>>().join(", ")
        )
    }
}
