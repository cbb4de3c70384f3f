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
            (true, _) => "publish the kit and assign its baselines: this node belongs to a server, which sets its desired state".to_owned(),
            (_, true) => format!(
                "an operator sets the mode of its groups to enforce; or once, with a recorded reason: constans-agent enforce{yes} --although-observing REASON {arguments}"
            ),
            _ => format!("constans-agent enforce{yes} {arguments}"),
        }
    }

    fn change_switch(self) -> &'static str {
        if self.is_joined {
            "these clauses are not corrected on purpose; change the switch in the kit, the assignment or the group"
        } else {
            "these clauses are not corrected on purpose; change the switch in the document to correct them"
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
        (Mode::Observe, Status::Failed) => format!("fix the failures above, then constans-agent observe {arguments}"),
        (Mode::Observe, _) if would || !report.due.is_empty() => may.enforce(arguments),
        (Mode::Enforce, Status::Failed) => format!("fix the failures above, then {}", may.enforce(arguments)),
        (_, Status::DriftFound | Status::RolloutWaiting) if report.clauses.iter().any(waits_for_an_hour) && !may.is_observing => {
            "the daemon applies waiting corrections at their time; constans-agent enforce --now REASON applies them now".to_owned()
        }
        (_, Status::DriftFound | Status::Unmet | Status::RolloutWaiting) => may.change_switch().to_owned(),
        (_, Status::NotAllSeen) => "see above what is unsupported, and why".to_owned(),
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) if replaced => {
            format!("constans-agent attic list{place} shows what was replaced; another run should find all clauses in line")
        }
        (Mode::Enforce, Status::RolledOut | Status::DriftCorrected) => "another run should find all clauses in line".to_owned(),
        _ if report.clauses.is_empty() => "no clauses: an operator assigns baselines to the groups of this node".to_owned(),
        _ if report.partial => "nothing to do for this part; a run without --clause, --topic and --baseline examines all clauses".to_owned(),
        _ => "nothing to do; all clauses are in line".to_owned(),
    }
}

/// Returns whether a clause was left for its grace, or since the change window is closed.
fn waits_for_an_hour(result: &ClauseResult) -> bool {
    let due = result.would.as_ref().unwrap_or(&result.decision);
    matches!(due, Decision::Leave { why: Leave::Grace { .. } | Leave::Window { .. } })
}
