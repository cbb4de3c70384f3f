//! What to do after a run: never a step that would be refused here.

use constans_core::run::{ClauseResult, Decision, Leave, Mode, Status};
use constans_wire::report::RunReport;

/// What a person may do here.
#[derive(Debug, Clone, Copy, Default)]
pub struct May {
    /// Whether the run was of what a server wants.
    pub is_joined: bool,
    /// Whether the node's mode is observe.
    pub is_observing: bool,
    /// Whether the run was of a kit or document, on a node that belongs to a server.
    pub is_local_on_joined: bool,
    /// Whether standard input is a terminal, where a question can be answered.
    pub can_be_asked: bool,
}

impl May {
    fn enforce(self, arguments: &str) -> String {
        let yes = if self.can_be_asked { "" } else { " --yes" };
        match (self.is_local_on_joined, self.is_observing) {
            (true, _) => "publish it and assign it: this node belongs to a server, and what is enforced on it comes from there".to_owned(),
            (_, true) => format!(
                "an operator sets the mode of its groups to enforce; or once, with a reason on record: constans-agent enforce{yes} --although-observing REASON {arguments}"
            ),
            _ => format!("constans-agent enforce{yes} {arguments}"),
        }
    }

    fn change_switch(self) -> &'static str {
        if self.is_joined {
            "what is left is left on purpose; a publisher changes its switch in the kit, or an operator in the assignment or group"
        } else {
            "what is left is left on purpose; change its switch in the document to have it corrected"
        }
    }
}

/// Returns the sensible next step.
///
/// `arguments` name what is wanted and where, `place` the root and the agent's own folder, with a space before them.
pub fn next_step(report: &RunReport, arguments: &str, place: &str, may: May) -> String {
    let would = report.clauses.iter().any(|result| result.would == Some(Decision::Correct));
    let replaced = report.clauses.iter().any(|result| !result.kept.is_empty());
    match (report.mode, report.status) {
        (Mode::Observe, Status::Failed) => format!("mend what failed above, then constans-agent observe {arguments}"),
        (Mode::Observe, _) if would || !report.due.is_empty() => may.enforce(arguments),
        (Mode::Enforce, Status::Failed) => format!("mend what failed above, then {}", may.enforce(arguments)),
        (_, Status::DriftFound | Status::RolloutWaiting) if report.clauses.iter().any(waits_for_an_hour) && !may.is_observing => {
            "what waits for an hour is done then by the daemon; constans-agent enforce --now REASON does not wait".to_owned()
        }
        (_, Status::DriftFound | Status::Unmet | Status::RolloutWaiting) => may.change_switch().to_owned(),
        (_, Status::NotAllSeen) => "see above what could not be examined, and why".to_owned(),
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) if replaced => {
            format!("constans-agent attic list{place} shows what was replaced; another run should find everything in line")
        }
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) => "another run should find everything in line".to_owned(),
        _ if report.clauses.is_empty() => "say what is wanted: on a node that joined, an operator assigns its groups baselines".to_owned(),
        _ if report.partial => "nothing for this part; a run without --clause, --topic and --baseline looks at all".to_owned(),
        _ => "nothing; everything is as wanted".to_owned(),
    }
}

/// Returns whether a clause was left for its grace, or since the change window is closed.
fn waits_for_an_hour(result: &ClauseResult) -> bool {
    let due = result.would.as_ref().unwrap_or(&result.decision);
    matches!(due, Decision::Leave { why: Leave::Grace { .. } | Leave::Window { .. } })
}
