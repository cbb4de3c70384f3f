//! What is known of a node, in words: the client and the console show the same sentences.

use super::NodeSummary;
use constans_core::node_status::NodeProblem;
use constans_core::run::{AgentUpgrade, Mode, Status};
use constans_core::sentence::{Sentence, clock_words};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A node in words.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeWords {
    /// The status of its last full run, with its age.
    pub status: Sentence,
    /// The releases of that run, and the desired ones if they differ; empty before the first run.
    pub releases: Sentence,
    /// When it contacted the server last, and when it will next.
    pub contact: Sentence,
    /// Its problems, the most severe first.
    pub problems: Vec<ProblemWords>,
}

/// A problem of a node in words.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ProblemWords {
    /// What is wrong.
    pub message: Sentence,
    /// What to do.
    pub remedy: String,
}

impl NodeWords {
    /// Returns what is known of this node in words.
    pub fn of(node: &NodeSummary) -> Self {
        Self {
            status: status(node),
            releases: releases(node),
            contact: contact(node),
            problems: node.problems.iter().map(|problem| explained(*problem, node)).collect(),
        }
    }

    /// Returns the status with the releases that it is about.
    pub fn status_and_releases(&self) -> Sentence {
        if self.releases.is_empty() {
            return self.status.clone();
        }
        self.status.clone().text("; ").then(self.releases.clone())
    }
}

/// Returns the desired releases of a node and since when.
pub fn desired(node: &NodeSummary) -> Sentence {
    match node.wanted_since {
        _ if node.releases.is_empty() => Sentence::new("none yet"),
        Some(since) => Sentence::new(named(&node.releases)).text(" since ").span(since),
        None => Sentence::new(named(&node.releases)),
    }
}

fn last_run(node: &NodeSummary) -> Option<(Status, Timestamp)> {
    let has_desired_state = !node.releases.is_empty() || node.has != node.wanted;
    node.run_status.zip(node.run_began).filter(|_| has_desired_state)
}

fn status(node: &NodeSummary) -> Sentence {
    match last_run(node) {
        Some((status, began)) => Sentence::new(status.words()).text(", ").ago(began),
        None if node.releases.is_empty() && node.has == node.wanted => Sentence::new("no desired state yet"),
        None => Sentence::new("no full run yet"),
    }
}

/// A release of which something waits is only known to the node.
fn releases(node: &NodeSummary) -> Sentence {
    let Some((status, _)) = last_run(node) else { return Sentence::default() };
    let has = named(&node.has_releases);
    let known = Sentence::new(match (status, node.mode) {
        (Status::RolloutWaiting, Some(Mode::Observe)) => {
            format!("knows {has}, not all of it applied: mode is observe")
        }
        (Status::RolloutWaiting, _) => format!("knows {has}, not all of it applied"),
        _ => format!("has {has}"),
    });
    match (node.has == node.wanted, node.releases == node.has_releases) {
        (true, _) => known,
        (false, true) => match node.wanted_since {
            Some(since) => known.text("; other values desired since ").span(since),
            None => known.text("; other values desired"),
        },
        (false, false) => known.text("; desired ").then(desired(node)),
    }
}

fn named(releases: &[String]) -> String {
    if releases.is_empty() { "no release".to_owned() } else { releases.join(" ") }
}

fn contact(node: &NodeSummary) -> Sentence {
    match (node.revoked_at, node.last_heard, node.promised) {
        (Some(at), ..) => Sentence::new("revoked ").ago(at),
        (None, Some(last), Some(promised)) => {
            Sentence::new("last contact ").ago(last).text(", next ").due(promised)
        }
        _ => Sentence::new("no contact yet"),
    }
}

fn explained(problem: NodeProblem, node: &NodeSummary) -> ProblemWords {
    let ago = |text: &str, at: Option<Timestamp>| match at {
        Some(at) => Sentence::new(text).text(" ").ago(at),
        None => Sentence::new(text),
    };
    let (message, remedy) = match problem {
        NodeProblem::StateUnusable => (
            Sentence::new(format!(
                "the desired state cannot be resolved; the node keeps its last usable one: {}",
                node.unusable.as_deref().unwrap_or("-")
            )),
            "fix the group, stage or kit named here".to_owned(),
        ),
        NodeProblem::DuplicateIdentity => (
            ago(
                "duplicate identity: two machines use the identity of this node, first seen",
                node.duplicate_identity_since,
            )
            .text("; secrets are withheld"),
            format!("revoke the node, or decide with: constans node resolve-duplicate {}", node.name),
        ),
        NodeProblem::CertificateEnds => (
            match node.certificate_ends {
                Some(at) => Sentence::new("the certificate ends at ").time(at),
                None => Sentence::new("the certificate ends soon"),
            }
            .text(" and was not renewed"),
            "on the node: constans-agent check-in renews it; constans-agent diagnose shows why it fails".to_owned(),
        ),
        NodeProblem::RunsOverdue => (
            ago("the node checks in but does not run; its last full run began", node.run_began),
            "on the node: constans-agent daemon --once shows why".to_owned(),
        ),
        NodeProblem::MemoryLost => (
            ago("the agent lost its memory", node.memory_lost_at).text("; causes stay as last known"),
            "check whether the machine was restored or its state folder emptied; a full run that leaves nothing open ends this".to_owned(),
        ),
        NodeProblem::AgentNotUpgraded => (
            Sentence::new(match &node.agent_upgrade {
                Some(AgentUpgrade { to, why: Some(why), .. }) => {
                    format!("the agent was not upgraded to {to}: {why}")
                }
                Some(upgrade) => format!("the agent was not upgraded to {}", upgrade.to),
                None => "the agent was not upgraded".to_owned(),
            }),
            "look at it on the node: constans-agent status; name another version in the setting agent_version, or have it tried again there: constans-agent retry-upgrade".to_owned(),
        ),
        NodeProblem::ClockOff => (
            Sentence::new(format!("the clock is {}", clock_words(node.clock_off_secs.unwrap_or(0)))),
            "set the clock: certificates and drift windows depend on it; the order of runs does not".to_owned(),
        ),
    };
    ProblemWords { message, remedy }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    const NOW: Timestamp = Timestamp::constant(1_795_000_000, 0);

    fn before(secs: i64) -> Timestamp {
        Timestamp::from_second(NOW.as_second() - secs).unwrap()
    }

    fn node(more: &Value) -> NodeSummary {
        let mut node = json!({
            "id": "00000000-0000-0000-0000-000000000000", "name": "kiosk-auken-1", "labels": {}, "about": {},
            "last_contact": "on_time", "status": "in_line", "last_heard": before(60), "promised": before(-240),
            "mode": "enforce", "words": { "status": [], "releases": [], "contact": [], "problems": [] },
        });
        let fields = node.as_object_mut().unwrap();
        fields.extend(more.as_object().unwrap().clone());
        serde_json::from_value(node).unwrap()
    }

    fn status(more: &Value) -> String {
        NodeWords::of(&node(more)).status_and_releases().write(NOW)
    }

    #[test]
    fn a_status_always_has_the_release_and_the_age_it_belongs_to() {
        let mut has = json!({
            "has": "s1:a", "wanted": "s1:a", "has_releases": ["quay-base@1.3.0"], "releases": ["quay-base@1.3.0"],
            "run_status": "in_line", "run_began": before(120), "wanted_since": before(720),
        });
        assert_eq!(status(&has), "in line, 2 min ago; has quay-base@1.3.0");
        has["wanted"] = "s1:b".into();
        assert_eq!(
            status(&has),
            "in line, 2 min ago; has quay-base@1.3.0; other values desired since 12 min"
        );
        has["releases"] = json!(["quay-base@1.4.0"]);
        assert_eq!(
            status(&has),
            "in line, 2 min ago; has quay-base@1.3.0; desired quay-base@1.4.0 since 12 min"
        );
    }

    #[test]
    fn a_release_of_which_something_waits_is_known_and_not_had() {
        let mut observed = json!({
            "mode": "observe", "has": "s1:a", "wanted": "s1:a", "has_releases": ["quay-base@1.4.0"],
            "releases": ["quay-base@1.4.0"], "run_status": "rollout_waiting", "run_began": before(9),
        });
        let known = "rollout waiting, 9 s ago; knows quay-base@1.4.0, not all of it applied";
        assert_eq!(status(&observed), format!("{known}: mode is observe"));
        observed["mode"] = "enforce".into();
        assert_eq!(status(&observed), known);
    }

    #[test]
    fn a_new_node_is_told_apart_from_one_that_has_not_run_yet() {
        assert_eq!(status(&json!({})), "no desired state yet");
        assert_eq!(status(&json!({ "wanted": "s1:a", "releases": ["quay-base@1.3.0"] })), "no full run yet");
    }

    #[test]
    fn contact_is_the_last_and_the_next_or_the_revocation() {
        let contact = |more: &Value| NodeWords::of(&node(more)).contact.write(NOW);
        assert_eq!(contact(&json!({})), "last contact 60 s ago, next in 4 min");
        assert_eq!(
            contact(&json!({ "promised": before(30) })),
            "last contact 60 s ago, next was due 30 s ago"
        );
        assert_eq!(contact(&json!({ "last_heard": null, "promised": null })), "no contact yet");
        assert_eq!(contact(&json!({ "revoked_at": before(7_200) })), "revoked 2 h ago");
    }

    #[test]
    fn each_problem_has_its_facts_and_a_remedy() {
        let problems: Vec<NodeProblem> = NodeProblem::ALL.to_vec();
        let node = node(&json!({
            "problems": problems, "unusable": "there is no stage night", "duplicate_identity_since": before(300),
            "certificate_ends": NOW, "run_began": before(9_000), "memory_lost_at": before(240), "clock_off_secs": -75,
            "agent_upgrade": { "to": "0.2.0", "state": "failed", "why": "it did not report within 10 min; version 0.1.0 is installed again" },
        }));
        let words: Vec<String> = NodeWords::of(&node)
            .problems
            .iter()
            .map(|problem| {
                assert!(!problem.remedy.is_empty());
                problem.message.write(NOW)
            })
            .collect();
        assert_eq!(
            words,
            [
                "the desired state cannot be resolved; the node keeps its last usable one: there is no stage night",
                "duplicate identity: two machines use the identity of this node, first seen 5 min ago; secrets are withheld",
                "the certificate ends at 2026-11-18 11:06:40 UTC and was not renewed",
                "the node checks in but does not run; its last full run began 2 h ago",
                "the agent lost its memory 4 min ago; causes stay as last known",
                "the agent was not upgraded to 0.2.0: it did not report within 10 min; version 0.1.0 is installed again",
                "the clock is 75 s behind the server's",
            ]
        );
    }
}
