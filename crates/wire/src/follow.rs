//! Following the runs of a node: while somebody looks, its agent tells what comes out, clause by clause.

use crate::report::StartedBy;
use constans_core::address::ClauseAddress;
use constans_core::run::{ClauseResult, ClauseWords, Counts, Mode, Status};
use constans_core::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// So many clauses are told or asked for at once.
pub const MAX_AT_ONCE: usize = 200;
/// So many are told of one run; what it came to is in its report.
pub const MAX_OF_RUN: u64 = 2_000;

/// A run that is followed, as its agent tells it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToldRun {
    /// How it is.
    pub run: RunUnderWay,
    /// The number of the first of these clauses; the first that is told of a run has 1.
    pub first: u64,
    /// What came out since it told the last time.
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
    pub doing: String,
    /// That clause.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<ClauseAddress>,
    /// For how many milliseconds already.
    pub for_ms: u64,
    /// How many milliseconds the last whole run in this mode took; none if this is a run of a part, or that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_took_ms: Option<u64>,
    /// How many clauses came out before anybody followed, and are not told.
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
    /// What is waited for before the next run is told of.
    pub waits: Sentence,
    /// What came out of clauses of that run, after the one that was asked for. At most 200.
    pub clauses: Vec<FollowedClause>,
}

impl Follow {
    /// Returns what is waited for before the next run is told of.
    pub fn waits_for(&self) -> Sentence {
        let by_itself = |words: Sentence| match self.next_check_in {
            Some(at) => words.text("; next check-in ").due(at),
            None => words,
        };
        if self.heard.is_some_and(|heard| heard >= self.since) {
            return by_itself(Sentence::new(format!("no run of {} is under way", self.node)));
        }
        if self.was_waiting {
            return Sentence::new(format!(
                "{} was woken, and has not come yet: it may be in a run",
                self.node
            ));
        }
        by_itself(Sentence::new(format!("{} cannot be woken between its check-ins", self.node)))
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    #[test]
    fn what_is_waited_for_is_said_by_what_is_known_of_the_node() {
        let mut follow = Follow {
            node: "gate-tern-1".to_owned(),
            now: at(1_000),
            since: at(1_000),
            until: at(1_030),
            was_waiting: true,
            heard: Some(at(900)),
            next_check_in: Some(at(1_600)),
            run: None,
            waits: Sentence::default(),
            clauses: Vec::new(),
        };
        let said = |follow: &Follow| follow.waits_for().write(at(1_000));
        assert_eq!(said(&follow), "gate-tern-1 was woken, and has not come yet: it may be in a run");
        follow.was_waiting = false;
        let cannot = "gate-tern-1 cannot be woken between its check-ins; next check-in in 10 min";
        assert_eq!(said(&follow), cannot);
        follow.heard = Some(at(1_001));
        assert_eq!(said(&follow), "no run of gate-tern-1 is under way; next check-in in 10 min");
        follow.next_check_in = None;
        assert_eq!(said(&follow), "no run of gate-tern-1 is under way");
    }
}
