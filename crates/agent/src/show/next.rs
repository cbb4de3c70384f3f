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

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};
    use std::slice::from_ref;

    fn clause(over: &Value) -> Value {
        let mut whole = json!({
            "address": "file:/etc/issue", "severity": "medium", "origins": [], "wanted": "sha256:00", "verdict": "different",
            "decision": { "due": "nothing" }, "outcome": "in_line", "took_us": 5,
        });
        whole.as_object_mut().unwrap().extend(over.as_object().unwrap().clone());
        whole
    }

    fn report(mode: &str, status: &str, clauses: &[Value]) -> RunReport {
        serde_json::from_value(json!({
            "form": 1, "run": "0199a000-0000-7000-8000-000000000001", "machine": "kiosk-auken-1", "agent": "0.1.0",
            "wanted": { "digest": "sha256:00", "releases": [] }, "mode": mode, "started_by": "operator_on_node",
            "began": "2026-11-23T07:00:00Z", "took_us": 5, "memory_epoch": "0199a000-0000-7000-8000-000000000002", "sequence": 1,
            "status": status, "counts": { "in_line": 0, "corrected": 0, "out_of_line": 0, "blocked": 0, "failed": 0, "unsupported": 0, "idle": 0 }, "clauses": clauses,
        }))
        .unwrap()
    }

    #[test]
    fn the_next_step_is_one_that_is_not_refused_here() {
        let due = clause(&json!({ "would": { "due": "correct" }, "outcome": "out_of_line" }));
        let left = clause(
            &json!({ "decision": { "due": "leave", "why": { "reason": "grace", "until": "2026-11-23T09:00:00Z" } }, "outcome": "out_of_line" }),
        );
        let kept = clause(
            &json!({ "outcome": "corrected", "kept": [{ "path": "/etc/issue", "digest": "sha256:00", "bytes": 9, "attic": 4 }] }),
        );
        let alone = May::default();
        let joined = May { is_joined: true, ..alone };
        let observing = May { is_observing: true, ..joined };
        let local = May { is_local_on_joined: true, ..joined };
        let terminal = May { can_be_asked: true, ..alone };
        for (report, may, step) in [
            (
                report("observe", "rollout_waiting", from_ref(&due)),
                alone,
                "constans-agent enforce --yes --kit quay",
            ),
            (
                report("observe", "rollout_waiting", from_ref(&due)),
                terminal,
                "constans-agent enforce --kit quay",
            ),
            (
                report("observe", "rollout_waiting", from_ref(&due)),
                local,
                "publish the kit and assign its baselines: this node belongs to a server, which sets its desired state",
            ),
            (
                report("observe", "drift_found", &[due]),
                observing,
                "an operator sets the mode of its groups to enforce; or once, with a recorded reason: \
                 constans-agent enforce --yes --although-observing REASON --kit quay",
            ),
            (
                report("enforce", "drift_found", from_ref(&left)),
                joined,
                "the daemon applies waiting corrections at their time; constans-agent enforce --now REASON applies them now",
            ),
            (
                report("enforce", "unmet", &[clause(&json!({}))]),
                joined,
                "these clauses are not corrected on purpose; change the switch in the kit, the assignment or the group",
            ),
            (
                report("enforce", "rolled_out", &[kept]),
                alone,
                "constans-agent attic list --root /srv shows what was replaced; another run should find all clauses in line",
            ),
            (
                report("enforce", "failed", &[]),
                alone,
                "fix the failures above, then constans-agent enforce --yes --kit quay",
            ),
            (
                report("enforce", "in_line", &[]),
                joined,
                "no clauses: an operator assigns baselines to the groups of this node",
            ),
            (
                report("enforce", "in_line", &[clause(&json!({}))]),
                alone,
                "nothing to do; all clauses are in line",
            ),
        ] {
            assert_eq!(next_step(&report, "--kit quay", " --root /srv", may), step);
        }
    }
}
