//! What to do after a run.

use constans_core::run::{ClauseResult, Decision, Leave, Mode, Status};
use constans_wire::report::RunReport;

/// Returns the sensible next step.
///
/// `arguments` name what is wanted and where, `place` the root and the agent's own folder, with a space before them.
pub fn next_step(report: &RunReport, arguments: &str, place: &str) -> String {
    let would = report.clauses.iter().any(|result| result.would == Some(Decision::Correct));
    let replaced = report.clauses.iter().any(|result| !result.kept.is_empty());
    match (report.mode, report.status) {
        (Mode::Observe, Status::Failed) => format!("mend what failed above, then constans-agent observe {arguments}"),
        (Mode::Observe, _) if would || !report.due.is_empty() => format!("constans-agent enforce {arguments}"),
        (Mode::Enforce, Status::Failed) => format!("mend what failed above, then constans-agent enforce {arguments}"),
        (_, Status::DriftFound | Status::RolloutWaiting) if report.clauses.iter().any(waits_for_an_hour) => {
            "what waits for an hour is done then by the daemon; constans-agent enforce --now REASON does not wait".to_owned()
        }
        (_, Status::DriftFound | Status::Unmet | Status::RolloutWaiting) => {
            "what is left is left on purpose; change its switch in the document to have it corrected".to_owned()
        }
        (_, Status::NotAllSeen) => "see above what could not be examined, and why".to_owned(),
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) if replaced => {
            format!("constans-agent attic list{place} shows what was replaced; another run should find everything in line")
        }
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) => "another run should find everything in line".to_owned(),
        _ if report.clauses.is_empty() => "say what is wanted: on a node that joined, an operator assigns its groups baselines".to_owned(),
        _ => "nothing; everything is as wanted".to_owned(),
    }
}

/// Returns whether a clause was left for its grace, or since the change window is closed.
fn waits_for_an_hour(result: &ClauseResult) -> bool {
    let due = result.would.as_ref().unwrap_or(&result.decision);
    matches!(due, Decision::Leave { why: Leave::Grace { .. } | Leave::Window { .. } })
}
