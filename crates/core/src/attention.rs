//! What wants attention in a fleet: one sentence a trouble, the gravest first, each leading to its cause.

use crate::run::{ClauseResult, Decision, Outcome, Status, remaining};
use crate::standing::{Hearing, Sign, Trouble, span_words};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A node, as far as it may want attention.
#[derive(Debug, Clone)]
pub struct AttentionNode {
    /// Its name.
    pub name: String,
    /// The sign that it is shown by.
    pub sign: Sign,
    /// How it is heard.
    pub hearing: Hearing,
    /// When it was heard last.
    pub last_heard: Option<Timestamp>,
    /// When it promised to come next.
    pub promised: Option<Timestamp>,
    /// What is wrong about it beside the status of its runs.
    pub troubles: Vec<Trouble>,
    /// Why its state cannot be resolved.
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
    /// Why it is left, or what failed.
    pub said: String,
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
            (_, Decision::Leave { why }) | (Decision::Leave { why }, _) => why.words(),
            _ => "it was not corrected".to_owned(),
        };
        match result.outcome {
            Outcome::InLine | Outcome::Corrected | Outcome::Idle => None,
            Outcome::Failed => Some((Self::Failed, result.failure.as_ref().map_or_else(String::new, |failure| failure.message.clone()))),
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
pub struct TugOfWar {
    /// The node.
    pub node: String,
    /// The clause.
    pub address: String,
    /// How often.
    pub times: i64,
    /// Since when.
    pub since: Timestamp,
}

/// One sentence that wants attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Attention {
    /// The sign that stands before it.
    pub sign: Sign,
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
}

/// Returns what wants attention, the gravest first. Among `nodes` are all that are silent, never reported, refused or in
/// trouble; others may be left out.
pub fn attention(nodes: &[AttentionNode], exceptions: &[Exception], tugs: &[TugOfWar], now: Timestamp) -> Vec<Attention> {
    let mut all = Vec::new();
    // What a silent or refused node said before is not what is so now.
    let is_mute = |node: &&AttentionNode| matches!(node.sign, Sign::Silent | Sign::Revoked | Sign::Retired);
    let mute: BTreeSet<&str> = nodes.iter().filter(is_mute).map(|node| node.name.as_str()).collect();
    let heard: Vec<&Exception> = exceptions.iter().filter(|exception| !mute.contains(exception.node.as_str())).collect();
    all.extend(by_address(&heard, ExceptionSort::Failed));
    all.extend(nodes.iter().filter_map(unusable));
    all.extend(of_trouble(nodes, Trouble::Double));
    all.extend(by_address(&heard, ExceptionSort::Drifted));
    all.extend(tugs.iter().map(tug_of_war));
    all.extend(by_address(&heard, ExceptionSort::Unmet));
    all.extend(silent(nodes, now));
    all.extend(never_reported(nodes));
    for trouble in [Trouble::CertificateEnds, Trouble::RunsOverdue, Trouble::MemoryLost, Trouble::ClockOff] {
        all.extend(of_trouble(nodes, trouble));
    }
    all.extend(waiting(&heard));
    all
}

fn by_address(exceptions: &[&Exception], sort: ExceptionSort) -> Vec<Attention> {
    let mut groups: BTreeMap<&str, Vec<&Exception>> = BTreeMap::new();
    for exception in exceptions.iter().filter(|exception| exception.sort == sort) {
        groups.entry(&exception.address).or_default().push(exception);
    }
    let mut sentences: Vec<Attention> = groups.into_iter().map(|(address, group)| sentence(address, &group, sort)).collect();
    sentences.sort_by_key(|sentence| std::cmp::Reverse(sentence.nodes.len()));
    sentences
}

fn sentence(address: &str, group: &[&Exception], sort: ExceptionSort) -> Attention {
    let names: Vec<String> = group.iter().map(|exception| exception.node.clone()).collect();
    let who = who(&names);
    let (sign, title) = match sort {
        ExceptionSort::Failed => (Sign::Failed, format!("{who}: {address} failed")),
        ExceptionSort::Drifted => (Sign::DriftFound, format!("{who}: {address} drifted")),
        ExceptionSort::Unmet => (Sign::Unmet, format!("{who}: {address} is unmet, and only a person can change that")),
        ExceptionSort::Blocked | ExceptionSort::Waiting | ExceptionSort::Unsupported => (Sign::RolloutWaiting, format!("{who}: {address} waits")),
    };
    let mut said: Vec<&str> = group.iter().map(|exception| exception.said.as_str()).collect();
    said.sort_unstable();
    said.dedup();
    let detail = if said.len() > 2 { format!("{}; and {} more reasons", said[0], said.len() - 1) } else { said.join("; ") };
    let since = group.iter().map(|exception| exception.since).min();
    Attention { sign, title, detail, since, address: Some(address.to_owned()), nodes: names }
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
        sign: Sign::StateUnusable,
        title: format!("{} has no usable state and keeps its last good one", node.name),
        detail: because.clone(),
        since: node.wanted_since,
        address: None,
        nodes: vec![node.name.clone()],
    })
}

fn tug_of_war(tug: &TugOfWar) -> Attention {
    Attention {
        sign: Sign::DriftCorrected,
        title: format!("{}: {} was corrected {} times within a day", tug.node, tug.address, tug.times),
        detail: "a tug-of-war: somebody or something changes it again and again".to_owned(),
        since: Some(tug.since),
        address: Some(tug.address.clone()),
        nodes: vec![tug.node.clone()],
    }
}

fn silent(nodes: &[AttentionNode], now: Timestamp) -> Option<Attention> {
    let mut silent: Vec<&AttentionNode> = nodes.iter().filter(|node| node.sign == Sign::Silent).collect();
    silent.sort_by_key(|node| node.last_heard);
    let first = silent.first()?;
    let title = match silent.len() {
        1 => format!("{} is silent", first.name),
        several => format!("{} and {} more are silent", first.name, several - 1),
    };
    let promised = first.last_heard.zip(first.promised).map(|(heard, promised)| promised.duration_since(heard));
    let ago = first.last_heard.map(|heard| now.duration_since(heard));
    let detail = format!(
        "last heard {} ago, promised to come every {}",
        ago.map_or_else(|| "-".to_owned(), span),
        promised.map_or_else(|| "-".to_owned(), span)
    );
    let names = silent.iter().map(|node| node.name.clone()).collect();
    Some(Attention { sign: Sign::Silent, title, detail, since: first.last_heard, address: None, nodes: names })
}

fn never_reported(nodes: &[AttentionNode]) -> Option<Attention> {
    let names: Vec<String> = nodes.iter().filter(|node| node.sign == Sign::NeverReported).map(|node| node.name.clone()).collect();
    if names.is_empty() {
        return None;
    }
    let heard = nodes.iter().filter(|node| node.sign == Sign::NeverReported && node.hearing != Hearing::NeverReported).count();
    let detail = match (heard, names.len()) {
        (0, _) => "approved, and not heard since: is its agent running?".to_owned(),
        (all, total) if all == total => "heard, and no full run yet".to_owned(),
        (some, _) => format!("{some} of them are heard and had no full run yet, the others were never heard"),
    };
    let title = format!("{} {} never reported", who(&names), if names.len() == 1 { "has" } else { "have" });
    Some(Attention { sign: Sign::NeverReported, title, detail, since: None, address: None, nodes: names })
}

fn of_trouble(nodes: &[AttentionNode], trouble: Trouble) -> Option<Attention> {
    let names: Vec<String> = nodes.iter().filter(|node| node.troubles.contains(&trouble)).map(|node| node.name.clone()).collect();
    if names.is_empty() {
        return None;
    }
    let detail = match trouble {
        Trouble::StateUnusable => "what is wanted cannot be resolved",
        Trouble::Double => "two machines were seen with one identity; secrets are withheld until a person decides",
        Trouble::CertificateEnds => "the certificate ends soon and was not renewed",
        Trouble::RunsOverdue => "heard on time, and no full run for three intervals",
        Trouble::MemoryLost => "what the agent remembered is gone; causes are kept as last known",
        Trouble::ClockOff => "the clock differs from the server's by more than a minute",
    };
    let title = format!("{}: {}", who(&names), trouble.words());
    Some(Attention { sign: Sign::NotAllSeen, title, detail: detail.to_owned(), since: None, address: None, nodes: names })
}

fn waiting(exceptions: &[&Exception]) -> Option<Attention> {
    let waits: Vec<&&Exception> = exceptions.iter().filter(|exception| exception.sort == ExceptionSort::Waiting).collect();
    let mut names: Vec<String> = waits.iter().map(|exception| exception.node.clone()).collect();
    names.sort();
    names.dedup();
    let first = waits.iter().min_by_key(|exception| exception.since)?;
    let clauses = waits.len();
    Some(Attention {
        sign: Sign::RolloutWaiting,
        title: format!("{} {} for something new to be brought in", who(&names), if names.len() == 1 { "waits" } else { "wait" }),
        detail: format!("{} {}; {}", clauses, if clauses == 1 { "clause" } else { "clauses" }, first.said),
        since: Some(first.since),
        address: None,
        nodes: names,
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

    fn node(name: &str, sign: Sign) -> AttentionNode {
        let hearing = if sign == Sign::Silent { Hearing::Silent } else { Hearing::OnTime };
        let (last_heard, promised) = (Some(at(0)), Some(at(900)));
        AttentionNode { name: name.into(), sign, hearing, last_heard, promised, troubles: vec![], unusable: None, wanted_since: None }
    }

    fn exception(node: &str, address: &str, sort: ExceptionSort, said: &str) -> Exception {
        Exception { node: node.into(), address: address.into(), sort, said: said.into(), since: at(100) }
    }

    #[test]
    fn troubles_are_one_sentence_each_the_gravest_first() {
        let nodes = [
            node("gate-auken-1", Sign::DriftFound),
            node("gate-brisk-1", Sign::DriftFound),
            node("kiosk-auken-1", Sign::Failed),
            node("bridge-gannet", Sign::Silent),
            node("bridge-puffin", Sign::Silent),
            AttentionNode { troubles: vec![Trouble::ClockOff], ..node("bridge-tern", Sign::InLine) },
            AttentionNode { unusable: Some("two groups disagree".into()), ..node("gate-brisk-2", Sign::StateUnusable) },
            node("depot-print-1", Sign::NeverReported),
        ];
        let tariffs = "file:/etc/gate/tariffs.csv";
        let exceptions = [
            exception("gate-auken-1", tariffs, ExceptionSort::Drifted, "told only"),
            exception("gate-brisk-1", tariffs, ExceptionSort::Drifted, "told only"),
            exception("kiosk-auken-1", "package:kiosk-shell", ExceptionSort::Failed, "apt-get found no such version"),
            exception("bridge-gannet", "file:/etc/issue", ExceptionSort::Drifted, "told only"),
            exception("kiosk-auken-1", "file:/etc/issue", ExceptionSort::Waiting, "the run only observes"),
        ];
        let said: Vec<String> =
            attention(&nodes, &exceptions, &[], at(3_600)).iter().map(|one| format!("{:?}: {} ({})", one.sign, one.title, one.detail)).collect();
        assert_eq!(
            said,
            [
                "Failed: kiosk-auken-1: package:kiosk-shell failed (apt-get found no such version)",
                "StateUnusable: gate-brisk-2 has no usable state and keeps its last good one (two groups disagree)",
                "DriftFound: 2 nodes: file:/etc/gate/tariffs.csv drifted (told only)",
                "Silent: bridge-gannet and 1 more are silent (last heard 60 min ago, promised to come every 15 min)",
                "NeverReported: depot-print-1 has never reported (heard, and no full run yet)",
                "NotAllSeen: bridge-tern: clock off (the clock differs from the server's by more than a minute)",
                "RolloutWaiting: kiosk-auken-1 waits for something new to be brought in (1 clause; the run only observes)",
            ]
        );
    }

    #[test]
    fn a_fleet_in_line_wants_no_attention() {
        assert_eq!(attention(&[node("gate-auken-1", Sign::InLine)], &[], &[], at(0)), []);
    }
}
