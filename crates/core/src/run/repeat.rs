//! Whether a run found again what the run before it found: then it needs no row of its own.

use super::action::PackagePreview;
use super::cause::{Cause, Newness};
use super::reaction::DueReaction;
use super::restart::RestartPending;
use super::result::{
    ClauseResult, Decision, FailureAt, MissedReaction, Outcome, ReactionState, StoredCopy, Verdict,
};
use super::status::Status;
use crate::address::ClauseAddress;
use crate::digest::{Digest, of_value};
use crate::kind::Reaction;
use serde::Serialize;

/// What a full run reports beside its clauses.
#[derive(Debug, Clone, Copy)]
pub struct RunFindings<'a> {
    /// Its status.
    pub status: Status,
    /// Its clauses.
    pub clauses: &'a [ClauseResult],
    /// The reactions that are still due.
    pub due: &'a [DueReaction],
    /// The package changes that correcting all would cause.
    pub package_preview: Option<&'a PackagePreview>,
    /// The pending restart of the node.
    pub restart_pending: Option<&'a RestartPending>,
}

/// What a full run found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Found {
    /// All is in line, and nothing is due.
    Nothing,
    /// Deviations of which the run changed none: the digest of all that a person would be told of them.
    Standing(Digest),
    /// The run changed the node.
    Changed,
}

#[derive(Serialize)]
struct Standing<'a> {
    status: Status,
    clauses: Vec<StandingClause<'a>>,
    due: Vec<(&'a ClauseAddress, Reaction, u32)>,
    package_preview: Option<&'a PackagePreview>,
    restart_pending: Option<&'a RestartPending>,
}

#[derive(Serialize)]
struct StandingClause<'a> {
    address: &'a ClauseAddress,
    found: Option<&'a Digest>,
    verdict: Option<Verdict>,
    cause: Option<Cause>,
    also_drifted: bool,
    newness: Option<&'a Newness>,
    already_there: bool,
    decision: &'a Decision,
    would: Option<&'a Decision>,
    outcome: Outcome,
    failure: Option<StandingFailure<'a>>,
    unsupported: Option<&'a str>,
    reaction: Option<(Reaction, &'a [ClauseAddress], ReactionState)>,
    missed: &'a [MissedReaction],
    kept: &'a [StoredCopy],
}

/// A failure without what the command printed, which may have a time in it.
#[derive(Serialize)]
struct StandingFailure<'a> {
    at: FailureAt,
    message: &'a str,
    command: Option<(&'a str, Option<i32>)>,
}

/// Returns what a full run found. Two runs in the same state and mode that found the same say the same of the node; durations and
/// the output of native commands are left aside.
pub fn found(run: RunFindings<'_>) -> Found {
    if run.clauses.iter().any(has_changed) {
        return Found::Changed;
    }
    let clauses: Vec<_> = run.clauses.iter().filter(|result| !is_quiet(result)).map(standing).collect();
    if run.status == Status::InLine && clauses.is_empty() && run.due.is_empty() {
        return Found::Nothing;
    }
    let due = run.due.iter().map(|due| (&due.target, due.reaction, due.attempts)).collect();
    let RunFindings { status, package_preview, restart_pending, .. } = run;
    Found::Standing(of_value("r1", &Standing { status, clauses, due, package_preview, restart_pending }))
}

fn has_changed(result: &ClauseResult) -> bool {
    let has_reacted = result.reaction.as_ref().is_some_and(|reaction| {
        matches!(reaction.state, ReactionState::Done | ReactionState::NotNeeded | ReactionState::Failed)
    });
    result.outcome == Outcome::Corrected || !result.packages.is_empty() || has_reacted
}

fn is_quiet(result: &ClauseResult) -> bool {
    matches!(result.outcome, Outcome::InLine | Outcome::Idle)
        && result.reaction.is_none()
        && result.missed.is_empty()
        && !result.already_there
}

fn standing(result: &ClauseResult) -> StandingClause<'_> {
    StandingClause {
        address: &result.address,
        found: result.found.as_ref(),
        verdict: result.verdict,
        cause: result.cause,
        also_drifted: result.also_drifted,
        newness: result.newness.as_ref(),
        already_there: result.already_there,
        decision: &result.decision,
        would: result.would.as_ref(),
        outcome: result.outcome,
        failure: result.failure.as_ref().map(|failure| StandingFailure {
            at: failure.at,
            message: &failure.message,
            command: failure.command.as_ref().map(|step| (step.what.as_str(), step.exit)),
        }),
        unsupported: result.unsupported.as_deref(),
        reaction: result
            .reaction
            .as_ref()
            .map(|reaction| (reaction.reaction, reaction.causes.as_slice(), reaction.state)),
        missed: &result.missed,
        kept: &result.kept,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn result(change: &Value) -> ClauseResult {
        let mut value = json!({
            "address": "file:/etc/motd", "severity": "medium", "origins": [], "wanted": of_value("w1", &1), "found": of_value("f1", &2),
            "verdict": "different", "cause": "drift", "decision": { "due": "leave", "why": { "reason": "observing" } },
            "outcome": "out_of_line", "took_us": 10,
        });
        value.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
        serde_json::from_value(value).unwrap()
    }

    fn of(status: Status, clauses: &[ClauseResult]) -> Found {
        found(RunFindings { status, clauses, due: &[], package_preview: None, restart_pending: None })
    }

    fn drift(change: &Value) -> Found {
        of(Status::DriftFound, &[result(change)])
    }

    #[test]
    fn the_same_deviation_found_again_is_the_same_however_long_it_took() {
        let first = drift(&json!({}));
        assert!(matches!(first, Found::Standing(_)));
        assert_eq!(drift(&json!({ "took_us": 99 })), first);
        assert_eq!(
            drift(
                &json!({ "drift_window": { "from": "2026-11-01T00:00:00Z", "to": "2026-11-02T00:00:00Z" } })
            ),
            first,
            "how long ago it was in line grows with each run"
        );
        for other in [
            json!({ "address": "file:/etc/issue" }),
            json!({ "found": of_value("f1", &3) }),
            json!({ "cause": "rollout" }),
            json!({ "also_drifted": true }),
            json!({ "decision": { "due": "leave", "why": { "reason": "only_a_person" } } }),
            json!({ "outcome": "failed", "failure": { "at": "correct", "message": "no space is left" } }),
        ] {
            assert_ne!(drift(&other), first, "{other}");
        }
        assert_ne!(of(Status::RolloutWaiting, &[result(&json!({}))]), first);
    }

    #[test]
    fn a_failure_is_the_same_if_it_has_the_same_message_whatever_it_printed() {
        let failure = |message: &str, exit: i32, output: &str| {
            let command = json!({ "what": "apt-get install", "exit": exit, "output": output });
            drift(
                &json!({ "outcome": "failed", "failure": { "at": "correct", "message": message, "command": command } }),
            )
        };
        assert_eq!(failure("it failed", 100, "at 12:00"), failure("it failed", 100, "at 12:15"));
        assert_ne!(failure("it failed", 100, ""), failure("it failed", 1, ""));
        assert_ne!(failure("it failed", 100, ""), failure("it failed again", 100, ""));
    }

    #[test]
    fn a_run_that_changed_something_is_never_the_same_as_another() {
        let corrected = json!({ "outcome": "corrected", "decision": { "due": "correct" } });
        assert_eq!(of(Status::DriftCorrected, &[result(&corrected)]), Found::Changed);
        let alike = json!({ "verdict": "alike", "outcome": "in_line", "decision": { "due": "nothing" }, "cause": null });
        assert_eq!(of(Status::InLine, &[result(&alike)]), Found::Nothing);
        assert_eq!(of(Status::InLine, &[]), Found::Nothing);
        let mut reacted = alike;
        reacted["reaction"] =
            json!({ "reaction": "restart", "causes": [], "since": "2026-11-01T00:00:00Z", "state": "done" });
        assert_eq!(of(Status::InLine, &[result(&reacted)]), Found::Changed);
    }
}
