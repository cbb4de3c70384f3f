//! What needs attention in a fleet: one sentence per problem, the most severe first, each with its cause.

use crate::node_status::{LastContact, NodeProblem, NodeStatus};
use crate::run::{ClauseResult, Decision, Outcome, Status, remaining};
use crate::sentence::span_words;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A node, as far as it may want attention.
#[derive(Debug, Clone)]
pub struct AttentionNode {
    /// Its name.
    pub name: String,
    /// The status that it is shown by.
    pub status: NodeStatus,
    /// The state of its last contact.
    pub last_contact: LastContact,
    /// Its last contact.
    pub last_heard: Option<Timestamp>,
    /// When its next check-in is due.
    pub promised: Option<Timestamp>,
    /// What is wrong about it beside the status of its runs.
    pub problems: Vec<NodeProblem>,
    /// Why its desired state cannot be resolved.
    pub unusable: Option<String>,
    /// Since when something is wanted of it.
    pub wanted_since: Option<Timestamp>,
}

/// A clause that is not in line at a node now.
#[derive(Debug, Clone)]
pub struct Exception {
    /// The node.
    pub node: String,
    /// The clause.
    pub address: String,
    /// What sort of exception it is.
    pub sort: ExceptionSort,
    /// Why it is not corrected, or what failed.
    pub message: String,
    /// Since when.
    pub since: Timestamp,
}

/// What sort of exception a clause is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ExceptionSort {
    /// Inspecting, correcting, verifying or reacting failed.
    Failed,
    /// It drifted and stays so.
    Drifted,
    /// Out of line since it was wanted, and only a person can change that.
    Unmet,
    /// Something that it needs is not in line.
    Blocked,
    /// Something new waits.
    Waiting,
    /// It cannot be seen there.
    Unsupported,
}

impl ExceptionSort {
    /// Returns what sort of exception a result is, and what is to be said of it; none if it is in line.
    pub fn of(result: &ClauseResult) -> Option<(Self, String)> {
        let due = result.would.as_ref().unwrap_or(&result.decision);
        let left = match (&result.decision, due) {
            (_, Decision::Blocked { by }) => by.words(),
            (_, Decision::Leave { why }) | (Decision::Leave { why }, _) => why.words().write_dated(),
            _ => "it was not corrected".to_owned(),
        };
        match result.outcome {
            Outcome::InLine | Outcome::Corrected | Outcome::Idle => None,
            Outcome::Failed => Some((
                Self::Failed,
                result.failure.as_ref().map_or_else(String::new, |failure| failure.message.clone()),
            )),
            Outcome::Unsupported => Some((Self::Unsupported, result.unsupported.clone().unwrap_or_default())),
            Outcome::Blocked => Some((Self::Blocked, left)),
            Outcome::OutOfLine => Some(match remaining(result) {
                Status::DriftFound => (Self::Drifted, left),
                Status::Unmet => (Self::Unmet, left),
                _ => (Self::Waiting, left),
            }),
        }
    }
}

/// A clause that was put right again and again within a day.
#[derive(Debug, Clone)]
pub struct RecurringDrift {
    /// The node.
    pub node: String,
    /// The clause.
    pub address: String,
    /// How often.
    pub times: i64,
    /// Since when.
    pub since: Timestamp,
}

/// A concession that waits for approval, or ends soon.
#[derive(Debug, Clone)]
pub struct ConcessionNotice {
    /// Its number.
    pub no: i64,
    /// The clauses, or patterns of them.
    pub clauses: Vec<String>,
    /// How many nodes it covers.
    pub nodes: u64,
    /// Who asked for it.
    pub asked_by: String,
    /// Until when it is.
    pub until: Timestamp,
    /// Whether it waits for approval.
    pub is_asked: bool,
}

/// A rollout that is halted: a person decides how it goes on.
#[derive(Debug, Clone)]
pub struct HaltedRollout {
    /// The number of its change.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Why it is halted.
    pub because: String,
    /// Since when.
    pub since: Timestamp,
}

/// One sentence that wants attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Attention {
    /// The status with precedence over it.
    pub status: NodeStatus,
    /// The sentence.
    pub title: String,
    /// What more is known.
    pub detail: String,
    /// Since when.
    pub since: Option<Timestamp>,
    /// The clause that it is about.
    pub address: Option<String>,
    /// The nodes that it is about, by name.
    pub nodes: Vec<String>,
    /// The number of the concession that it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub concession: Option<i64>,
    /// The number of the change whose rollout it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rollout: Option<i64>,
}

/// Returns what wants attention, the most severe first. Among `nodes` are all that are silent, never reported, refused or have
/// problems; others may be left out.
pub fn attention(
    nodes: &[AttentionNode],
    exceptions: &[Exception],
    recurring: &[RecurringDrift],
    concessions: &[ConcessionNotice],
    halted: &[HaltedRollout],
    now: Timestamp,
) -> Vec<Attention> {
    let mut all: Vec<Attention> = halted.iter().map(of_rollout).collect();
    // What a silent or refused node reported before may have changed since.
    let is_mute = |node: &&AttentionNode| {
        matches!(node.status, NodeStatus::Silent | NodeStatus::Revoked | NodeStatus::Retired)
    };
    let mute: BTreeSet<&str> = nodes.iter().filter(is_mute).map(|node| node.name.as_str()).collect();
    let not_silent: Vec<&Exception> =
        exceptions.iter().filter(|exception| !mute.contains(exception.node.as_str())).collect();
    all.extend(by_address(&not_silent, ExceptionSort::Failed));
    all.extend(nodes.iter().filter_map(unusable));
    all.extend(with_problem(nodes, NodeProblem::DuplicateIdentity));
    all.extend(by_address(&not_silent, ExceptionSort::Drifted));
    all.extend(recurring.iter().map(recurring_drift));
    all.extend(by_address(&not_silent, ExceptionSort::Unmet));
    all.extend(silent(nodes, now));
    all.extend(never_reported(nodes));
    for problem in [
        NodeProblem::CertificateEnds,
        NodeProblem::RunsOverdue,
        NodeProblem::MemoryLost,
        NodeProblem::AgentNotUpgraded,
        NodeProblem::ClockOff,
    ] {
        all.extend(with_problem(nodes, problem));
    }
    all.extend(waiting(&not_silent));
    all.extend(concessions.iter().map(|concession| of_concession(concession, now)));
    all
}

fn of_rollout(halted: &HaltedRollout) -> Attention {
    let HaltedRollout { no, what, because, since } = halted;
    Attention {
        status: NodeStatus::Failed,
        title: format!("the rollout C{no} is halted: {what}"),
        detail: because.clone(),
        since: Some(*since),
        address: None,
        nodes: Vec::new(),
        concession: None,
        rollout: Some(*no),
    }
}

fn of_concession(concession: &ConcessionNotice, now: Timestamp) -> Attention {
    let ConcessionNotice { no, clauses, nodes, asked_by, until, is_asked } = concession;
    let what = match clauses.as_slice() {
        [first, second, _, ..] => format!("{first}, {second} and {} more", clauses.len() - 2),
        few => few.join(", "),
    };
    let on = format!("{what} on {nodes} {}", if *nodes == 1 { "node" } else { "nodes" });
    let left = span(until.duration_since(now));
    let (title, detail) = if *is_asked {
        (format!("{asked_by} asks for the concession D{no}"), format!("{on}; another person approves it"))
    } else {
        (format!("the concession D{no} ends in {left}"), format!("{on} may deviate until then"))
    };
    Attention {
        status: NodeStatus::RolloutWaiting,
        title,
        detail,
        since: None,
        address: None,
        nodes: Vec::new(),
        concession: Some(*no),
        rollout: None,
    }
}

fn by_address(exceptions: &[&Exception], sort: ExceptionSort) -> Vec<Attention> {
    let mut groups: BTreeMap<&str, Vec<&Exception>> = BTreeMap::new();
    for exception in exceptions.iter().filter(|exception| exception.sort == sort) {
        groups.entry(&exception.address).or_default().push(exception);
    }
    let mut sentences: Vec<Attention> =
        groups.into_iter().map(|(address, group)| sentence(address, &group, sort)).collect();
    sentences.sort_by_key(|sentence| std::cmp::Reverse(sentence.nodes.len()));
    sentences
}

fn sentence(address: &str, group: &[&Exception], sort: ExceptionSort) -> Attention {
    let names: Vec<String> = group.iter().map(|exception| exception.node.clone()).collect();
    let who = who(&names);
    let (status, title) = match sort {
        ExceptionSort::Failed => (NodeStatus::Failed, format!("{who}: {address} failed")),
        ExceptionSort::Drifted => (NodeStatus::DriftFound, format!("{who}: {address} drifted")),
        ExceptionSort::Unmet => (NodeStatus::Unmet, format!("{who}: {address} needs a person")),
        ExceptionSort::Blocked | ExceptionSort::Waiting | ExceptionSort::Unsupported => {
            (NodeStatus::RolloutWaiting, format!("{who}: {address} is waiting"))
        }
    };
    let mut messages: Vec<&str> = group.iter().map(|exception| exception.message.as_str()).collect();
    messages.sort_unstable();
    messages.dedup();
    let detail = if messages.len() > 2 {
        format!("{}; and {} more reasons", messages[0], messages.len() - 1)
    } else {
        messages.join("; ")
    };
    let since = group.iter().map(|exception| exception.since).min();
    Attention {
        status,
        title,
        detail,
        since,
        address: Some(address.to_owned()),
        nodes: names,
        concession: None,
        rollout: None,
    }
}

/// Names one node, or says how many.
fn who(names: &[String]) -> String {
    match names {
        [one] => one.clone(),
        several => format!("{} nodes", several.len()),
    }
}

fn unusable(node: &AttentionNode) -> Option<Attention> {
    let because = node.unusable.as_ref()?;
    Some(Attention {
        status: NodeStatus::StateUnusable,
        title: format!("the desired state of {} cannot be resolved; it keeps its last usable one", node.name),
        detail: because.clone(),
        since: node.wanted_since,
        address: None,
        nodes: vec![node.name.clone()],
        concession: None,
        rollout: None,
    })
}

fn recurring_drift(drift: &RecurringDrift) -> Attention {
    Attention {
        status: NodeStatus::DriftCorrected,
        title: format!("{}: {} was corrected {} times within a day", drift.node, drift.address, drift.times),
        detail: "recurring drift: something changes it again after each correction".to_owned(),
        since: Some(drift.since),
        address: Some(drift.address.clone()),
        nodes: vec![drift.node.clone()],
        concession: None,
        rollout: None,
    }
}

fn silent(nodes: &[AttentionNode], now: Timestamp) -> Option<Attention> {
    let mut silent: Vec<&AttentionNode> =
        nodes.iter().filter(|node| node.status == NodeStatus::Silent).collect();
    silent.sort_by_key(|node| node.last_heard);
    let first = silent.first()?;
    let title = match silent.len() {
        1 => format!("{} is silent", first.name),
        several => format!("{} and {} more are silent", first.name, several - 1),
    };
    let promised = first
        .last_heard
        .zip(first.promised)
        // A node promises whole seconds, and is heard a little later.
        .map(|(not_silent, promised)| promised.duration_since(not_silent) + SignedDuration::from_secs(1));
    let ago = first.last_heard.map(|not_silent| now.duration_since(not_silent));
    let detail = format!(
        "last contact {} ago, check-ins are due every {}",
        ago.map_or_else(|| "-".to_owned(), span),
        promised.map_or_else(|| "-".to_owned(), span)
    );
    let names = silent.iter().map(|node| node.name.clone()).collect();
    Some(Attention {
        status: NodeStatus::Silent,
        title,
        detail,
        since: first.last_heard,
        address: None,
        nodes: names,
        concession: None,
        rollout: None,
    })
}

fn never_reported(nodes: &[AttentionNode]) -> Option<Attention> {
    let names: Vec<String> = nodes
        .iter()
        .filter(|node| node.status == NodeStatus::NeverReported)
        .map(|node| node.name.clone())
        .collect();
    if names.is_empty() {
        return None;
    }
    let not_silent = nodes
        .iter()
        .filter(|node| {
            node.status == NodeStatus::NeverReported && node.last_contact != LastContact::NeverReported
        })
        .count();
    let detail = match (not_silent, names.len()) {
        (0, _) => "approved, but no contact since: is its agent running?".to_owned(),
        (all, total) if all == total => "checks in, but has had no full run yet".to_owned(),
        (some, _) => {
            format!("{some} of them check in but have had no full run yet; the others have had no contact")
        }
    };
    let title = format!("{} {} never reported", who(&names), if names.len() == 1 { "has" } else { "have" });
    Some(Attention {
        status: NodeStatus::NeverReported,
        title,
        detail,
        since: None,
        address: None,
        nodes: names,
        concession: None,
        rollout: None,
    })
}

fn with_problem(nodes: &[AttentionNode], problem: NodeProblem) -> Option<Attention> {
    let names: Vec<String> =
        nodes.iter().filter(|node| node.problems.contains(&problem)).map(|node| node.name.clone()).collect();
    if names.is_empty() {
        return None;
    }
    let detail = match problem {
        NodeProblem::StateUnusable => "the desired state cannot be resolved",
        NodeProblem::DuplicateIdentity => {
            "two machines use one identity; secrets are withheld until an operator decides"
        }
        NodeProblem::CertificateEnds => "the certificate ends soon and was not renewed",
        NodeProblem::RunsOverdue => "checks in on time, but has had no full run for three intervals",
        NodeProblem::MemoryLost => "the memory of the agent is lost; causes stay as last known",
        NodeProblem::AgentNotUpgraded => {
            "the agent could not be upgraded to the version that is set; the version before runs"
        }
        NodeProblem::ClockOff => "the clock differs from the server's by more than a minute",
    };
    let title = format!("{}: {}", who(&names), problem.words());
    Some(Attention {
        status: NodeStatus::NotAllSeen,
        title,
        detail: detail.to_owned(),
        since: None,
        address: None,
        nodes: names,
        concession: None,
        rollout: None,
    })
}

fn waiting(exceptions: &[&Exception]) -> Option<Attention> {
    let waits: Vec<&&Exception> =
        exceptions.iter().filter(|exception| exception.sort == ExceptionSort::Waiting).collect();
    let mut names: Vec<String> = waits.iter().map(|exception| exception.node.clone()).collect();
    names.sort();
    names.dedup();
    let first = waits.iter().min_by_key(|exception| exception.since)?;
    let clauses = waits.len();
    Some(Attention {
        status: NodeStatus::RolloutWaiting,
        title: format!(
            "{} {} to apply a rollout",
            who(&names),
            if names.len() == 1 { "waits" } else { "wait" }
        ),
        detail: format!("{} {}; {}", clauses, if clauses == 1 { "clause" } else { "clauses" }, first.message),
        since: Some(first.since),
        address: None,
        nodes: names,
        concession: None,
        rollout: None,
    })
}

fn span(duration: SignedDuration) -> String {
    span_words(duration.as_secs())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    fn node(name: &str, status: NodeStatus) -> AttentionNode {
        let last_contact =
            if status == NodeStatus::Silent { LastContact::Silent } else { LastContact::OnTime };
        let (last_heard, promised) = (Some(at(0)), Some(at(900)));
        AttentionNode {
            name: name.into(),
            status,
            last_contact,
            last_heard,
            promised,
            problems: vec![],
            unusable: None,
            wanted_since: None,
        }
    }

    fn exception(node: &str, address: &str, sort: ExceptionSort, message: &str) -> Exception {
        Exception {
            node: node.into(),
            address: address.into(),
            sort,
            message: message.into(),
            since: at(100),
        }
    }

    #[test]
    fn troubles_are_one_sentence_each_the_gravest_first() {
        let nodes = [
            node("gate-auken-1", NodeStatus::DriftFound),
            node("gate-brisk-1", NodeStatus::DriftFound),
            node("kiosk-auken-1", NodeStatus::Failed),
            node("bridge-gannet", NodeStatus::Silent),
            node("bridge-puffin", NodeStatus::Silent),
            AttentionNode {
                problems: vec![NodeProblem::ClockOff],
                ..node("bridge-tern", NodeStatus::InLine)
            },
            AttentionNode {
                unusable: Some("two groups disagree".into()),
                ..node("gate-brisk-2", NodeStatus::StateUnusable)
            },
            node("depot-print-1", NodeStatus::NeverReported),
        ];
        let tariffs = "file:/etc/gate/tariffs.csv";
        let exceptions = [
            exception("gate-auken-1", tariffs, ExceptionSort::Drifted, "reported only"),
            exception("gate-brisk-1", tariffs, ExceptionSort::Drifted, "reported only"),
            exception(
                "kiosk-auken-1",
                "package:kiosk-shell",
                ExceptionSort::Failed,
                "apt-get found no such version",
            ),
            exception("bridge-gannet", "file:/etc/issue", ExceptionSort::Drifted, "reported only"),
            exception("kiosk-auken-1", "file:/etc/issue", ExceptionSort::Waiting, "the run only observes"),
        ];
        let details: Vec<String> = attention(&nodes, &exceptions, &[], &[], &[], at(3_600))
            .iter()
            .map(|one| format!("{:?}: {} ({})", one.status, one.title, one.detail))
            .collect();
        assert_eq!(
            details,
            [
                "Failed: kiosk-auken-1: package:kiosk-shell failed (apt-get found no such version)",
                "StateUnusable: the desired state of gate-brisk-2 cannot be resolved; it keeps its last usable one (two groups disagree)",
                "DriftFound: 2 nodes: file:/etc/gate/tariffs.csv drifted (reported only)",
                "Silent: bridge-gannet and 1 more are silent (last contact 60 min ago, check-ins are due every 15 min)",
                "NeverReported: depot-print-1 has never reported (checks in, but has had no full run yet)",
                "NotAllSeen: bridge-tern: clock off (the clock differs from the server's by more than a minute)",
                "RolloutWaiting: kiosk-auken-1 waits to apply a rollout (1 clause; the run only observes)",
            ]
        );
    }

    #[test]
    fn a_fleet_in_line_wants_no_attention() {
        assert_eq!(attention(&[node("gate-auken-1", NodeStatus::InLine)], &[], &[], &[], &[], at(0)), []);
    }
}
