//! Whole runs over a simulated node: each rule of runs is a named case.

mod ahead;
mod asked;

use super::*;
use crate::address::ClauseAddress;
use crate::compare::Found;
use crate::digest::DigestKey;
use crate::hours::{ChangeWindow, WeeklyHours};
use crate::kind::{Claim, Reaction};
use crate::kit::{Gone, OnDrift, OnRollout};
use crate::state::testing::{clause, state};
use crate::state::{Clause, EffectiveState, SwitchFrom};
use jiff::Timestamp;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// A node in memory: what is at each address, and how it misbehaves.
#[derive(Clone, Default)]
struct Node {
    things: BTreeMap<String, BTreeMap<String, Value>>,
    /// Corrections that fail before they change anything.
    fails: BTreeSet<String>,
    /// Corrections that change nothing and say that they did.
    lies: BTreeSet<String>,
    uninspectable: BTreeSet<String>,
    reactions_fail: bool,
    /// Installing this package writes over that path.
    overwrites: Option<(String, String)>,
    /// Installing this package brings that service along, which runs.
    brings: Option<(String, String)>,
    /// What changing a package takes along.
    takes: BTreeMap<String, PackageChange>,
    restarted_by_hand_at: Option<Timestamp>,
    /// What the package manager does not know.
    not_known: Vec<Failure>,
    /// What was done, in order.
    log: Vec<String>,
    memories: BTreeMap<ClauseAddress, Memory>,
    due: Vec<DueReaction>,
    secs: i64,
    stop_before: Option<String>,
    /// While it inspects this clause, the run is stopped.
    stopped_at: Option<String>,
    /// Of which clause, and of which seconds, related records were asked for.
    gathered: Vec<String>,
    /// What was settled after each step.
    settled: Vec<Vec<String>>,
}

fn key() -> DigestKey {
    DigestKey::new("node")
}

impl Node {
    fn with(mut self, address: &str, property: &str, value: impl Into<Value>) -> Self {
        self.things.entry(address.into()).or_default().insert(property.into(), value.into());
        self
    }

    fn now(&self) -> Timestamp {
        Timestamp::from_second(self.secs).unwrap()
    }

    fn inspect(&self, clause: &Clause) -> Inspection {
        let address = clause.address.as_str();
        if self.uninspectable.contains(address) {
            return Inspection::Failed(failure(FailureAt::Inspect, "cannot be read"));
        }
        let found = match self.things.get(address) {
            None => Found::absent(),
            Some(properties) => properties
                .iter()
                .fold(Found::present(), |found, (name, value)| found.with(name.clone(), value.clone())),
        };
        Inspection::Seen(Box::new(Seen {
            found,
            content_bytes: None,
            text_diff: None,
            native: Vec::new(),
            stand_in: None,
            read_at: None,
            running_since: self.restarted_by_hand_at,
        }))
    }

    fn correct(&mut self, clause: &Clause) -> Correction {
        let address = clause.address.as_str();
        self.log.push(format!("correct {address}"));
        if self.fails.contains(address) {
            return Correction {
                failure: Some(failure(FailureAt::Correct, "no such version")),
                ..Correction::default()
            };
        }
        if !self.lies.contains(address) {
            if clause.gone == Gone::No {
                self.things.insert(address.into(), clause.properties.clone());
            } else {
                self.things.remove(address);
            }
        }
        let mut touched = BTreeSet::new();
        if let Some((_, path)) = self.overwrites.take_if(|(package, _)| package == address) {
            self.things.insert(
                format!("file:{path}"),
                BTreeMap::from([("content".into(), json!("from the package"))]),
            );
            touched.insert(Claim::Path(path));
        }
        if let Some((_, service)) = self.brings.take_if(|(package, _)| package == address) {
            self.things
                .insert(format!("service:{service}"), BTreeMap::from([("running".into(), json!(true))]));
            touched.insert(Claim::Service(service));
        }
        Correction { touched, ..Correction::default() }
    }

    fn preview(&mut self, clauses: &[&Clause]) -> PackagePreview {
        self.log.push(format!(
            "preview {}",
            clauses.iter().map(|clause| clause.address.as_str()).collect::<Vec<_>>().join(" ")
        ));
        let own = |clause: &&Clause| PackageChange {
            package: clause.name().to_owned(),
            before: self.things.get(clause.address.as_str()).map(|_| "1.0".to_owned()),
            after: (clause.gone == Gone::No).then(|| "1.1".to_owned()),
        };
        let along = clauses.iter().filter_map(|clause| self.takes.get(clause.address.as_str()).cloned());
        PackagePreview {
            packages: clauses.iter().map(own).chain(along).collect(),
            not_known: self.not_known.clone(),
            ..PackagePreview::default()
        }
    }

    fn keep(&mut self, clause: &Clause) -> Vec<StoredCopy> {
        let content = self
            .things
            .get(clause.address.as_str())
            .and_then(|thing| thing.get("content"))
            .cloned()
            .unwrap_or_default();
        self.log.push(format!("keep {} {content}", clause.address));
        vec![StoredCopy {
            attic: 1,
            path: clause.name().to_owned(),
            digest: crate::digest::of_contents(content.to_string().as_bytes()),
            bytes: 1,
        }]
    }

    fn react(&mut self, clause: &Clause, reaction: Reaction) -> Result<Vec<NativeStep>, Failure> {
        self.log.push(format!("{} {}", reaction.word(), clause.address));
        if self.reactions_fail { Err(failure(FailureAt::React, "exit status 1")) } else { Ok(Vec::new()) }
    }

    fn run(&mut self, state: &EffectiveState, settings: RunSettings) -> Finished {
        self.run_part(state, settings, &Selection::Whole).expect("nothing stops this run")
    }

    /// Runs; returns `None` if it was cut off at `stop_before`.
    fn run_part(
        &mut self,
        state: &EffectiveState,
        settings: RunSettings,
        part: &Selection,
    ) -> Option<Finished> {
        self.secs += 100;
        let key = key();
        let mut run = Run::new(RunInput {
            state,
            settings,
            memories: self.memories.clone().into_iter().collect(),
            due: self.due.clone(),
            part: part.clone(),
            on_demand: false,
            key: &key,
        });
        let mut actions = run.begin(self.now());
        let mut told = BTreeMap::new();
        loop {
            let settled = run.settled();
            self.settled.push(settled.iter().map(|(_, result)| result.address.to_string()).collect());
            told.extend(settled.into_iter().map(|(at, result)| (at, result.clone())));
            let mut event = None;
            for action in actions {
                event = match action {
                    Action::Inspect(at) => {
                        if self.stopped_at.as_deref() == Some(state.clauses[at].address.as_str()) {
                            run.stop();
                        }
                        Some(RunEvent::Inspected(self.inspect(&state.clauses[at]), 1))
                    }
                    Action::Preview(ats) => {
                        let clauses: Vec<&Clause> = ats.iter().map(|at| &state.clauses[*at]).collect();
                        Some(RunEvent::PackagePreview(self.preview(&clauses), 1))
                    }
                    Action::GatherRelated(at, window) => {
                        let span = [window.from, window.to].map(|at| at.as_second());
                        self.gathered.push(format!("{} {span:?}", state.clauses[at].address));
                        let related = RelatedRecords::of(window, Vec::new(), Vec::new());
                        Some(RunEvent::Gathered(related, 1))
                    }
                    Action::Keep(at) => Some(RunEvent::Kept(Ok(self.keep(&state.clauses[at])), 1)),
                    Action::Correct(at, _) => {
                        if self.stop_before.as_deref() == Some(state.clauses[at].address.as_str()) {
                            return None;
                        }
                        Some(RunEvent::Corrected(self.correct(&state.clauses[at]), 1))
                    }
                    Action::React(at, reaction) => {
                        Some(RunEvent::Reacted(self.react(&state.clauses[at], reaction), 1))
                    }
                    Action::KeepDue(due) => {
                        self.due = due;
                        None
                    }
                    Action::Remember(address, memory) => {
                        self.memories.insert(address, memory);
                        None
                    }
                    Action::Finish => {
                        let finished = run.finish().unwrap();
                        assert!(
                            told.values().eq(&finished.results),
                            "what was told on the way is what came out"
                        );
                        self.memories = finished.memories.iter().cloned().collect();
                        self.due = finished.due.clone();
                        return Some(finished);
                    }
                };
            }
            actions = run.on_event(event.expect("the last action asks"), self.now()).unwrap();
        }
    }
}

fn failure(at: FailureAt, message: &str) -> Failure {
    Failure { at, message: message.into(), command: None, remedy: None }
}

fn file(path: &str, content: &str) -> Clause {
    clause(&format!("file:{path}")).with("content", content)
}

fn service() -> Clause {
    clause("service:kiosk-shell")
        .with("running", true)
        .reacts("file:/etc/kiosk/shell.conf", Reaction::Restart)
}

fn conf(content: &str) -> Clause {
    file("/etc/kiosk/shell.conf", content)
}

fn enforce() -> RunSettings {
    RunSettings::of(Mode::Enforce)
}

fn observe() -> RunSettings {
    RunSettings::of(Mode::Observe)
}

/// Returns a line a clause: verdict, cause, decision, outcome, reaction.
fn table(finished: &Finished) -> String {
    let mut text = format!("{}\n", finished.status.words());
    for result in &finished.results {
        let word = |value: &dyn erased::Word| value.word();
        text += &format!(
            "{} {} {}",
            result.address,
            result.verdict.as_ref().map_or("-".into(), |verdict| word(verdict)),
            word(&result.outcome)
        );
        if let Some(cause) = &result.cause {
            text += &format!(" {}{}", word(cause), if result.also_drifted { " also_drifted" } else { "" });
        }
        match &result.decision {
            Decision::Leave { why } => {
                text += &format!(" left:{}", serde_json::to_value(why).unwrap()["reason"].as_str().unwrap());
            }
            Decision::Blocked { by } => text += &format!(" by {} first {}", by.need, by.first),
            _ => {}
        }
        if let Some(would) = &result.would {
            text += &format!(" would:{}", serde_json::to_value(would).unwrap()["due"].as_str().unwrap());
        }
        if let Some(reaction) = &result.reaction {
            text += &format!(" {}:{}", reaction.reaction.word(), word(&reaction.state));
        }
        if let Some(failure) = &result.failure {
            text += &format!(" ({}: {})", word(&failure.at), failure.message);
        }
        text.push('\n');
    }
    text
}

mod erased {
    /// A value whose JSON form is a word.
    pub trait Word {
        fn word(&self) -> String;
    }

    impl<T: serde::Serialize> Word for T {
        fn word(&self) -> String {
            serde_json::to_value(self).unwrap().as_str().unwrap_or("?").to_owned()
        }
    }
}

fn memory_of<'n>(node: &'n Node, address: &str) -> &'n Memory {
    &node.memories[&ClauseAddress::parse(address).unwrap()]
}

#[test]
fn a_first_run_says_already_there_or_brings_in() {
    let mut node = Node::default().with("file:/etc/issue", "content", "a");
    let finished = node.run(&state(vec![file("/etc/issue", "a"), file("/etc/motd", "b")]), enforce());
    assert!(finished.results[0].already_there && !finished.results[1].already_there);
    assert_eq!(finished.results[1].newness, Some(Newness::NewHere));
    insta::assert_snapshot!(table(&finished), @r"
    rolled out
    file:/etc/issue alike in_line
    file:/etc/motd different corrected rollout
    ");
    insta::assert_snapshot!(table(&node.run(&state(vec![file("/etc/issue", "a"), file("/etc/motd", "b")]), enforce())), @r"
    in line
    file:/etc/issue alike in_line
    file:/etc/motd alike in_line
    ");
}

/// A state as a newer server sends it, with a clause of a kind and one of a claim that this version does not know.
fn state_of_a_newer_server() -> EffectiveState {
    let known = state(vec![file("/etc/issue", "a"), file("/dev/tape", "b"), file("/etc/motd", "c")]);
    let mut sent = serde_json::to_value(&known).unwrap();
    sent["clauses"][1]["address"] = "tape_drive:/dev/tape".into();
    sent["clauses"][1]["claim"] = serde_json::json!({ "tape_drive": { "path": "/dev/tape" } });
    sent["clauses"][2]["claim"] = "whole_machine".into();
    let received: EffectiveState = serde_json::from_value(sent.clone()).unwrap();
    assert_eq!(serde_json::to_value(&received).unwrap(), sent, "it is kept as it was received");
    received
}

#[test]
fn what_a_newer_server_says_is_unsupported_and_the_rest_goes_on() {
    let finished = Node::default().run(&state_of_a_newer_server(), enforce());
    insta::assert_snapshot!(table(&finished), @r"
    rolled out
    file:/etc/issue different corrected rollout
    tape_drive:/dev/tape unseen unsupported
    file:/etc/motd unseen unsupported
    ");
    let reasons: Vec<&str> =
        finished.results.iter().filter_map(|result| result.unsupported.as_deref()).collect();
    assert!(reasons[0].ends_with("does not know the kind `tape_drive`: upgrade it"), "{reasons:?}");
    assert!(
        reasons[1].ends_with("does not know what the clause claims of a file: upgrade it"),
        "{reasons:?}"
    );
}

#[test]
fn a_hand_edit_is_drift_with_its_window_and_is_corrected() {
    let wanted = state(vec![file("/etc/issue", "a")]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    node = node.with("file:/etc/issue", "content", "edited");
    let finished = node.run(&wanted, enforce());
    let window = finished.results[0].drift_window.unwrap();
    assert_eq!((window.from.as_second(), window.to.as_second()), (100, 200));
    insta::assert_snapshot!(table(&finished), @r"
    drift corrected
    file:/etc/issue different corrected drift
    ");
}

#[test]
fn related_records_are_gathered_once_for_each_change_and_before_the_correction() {
    let report = RunSettings { on_drift: OnDrift::Report, ..enforce() };
    let state = state(vec![file("/etc/issue", "a")]);
    let mut node = Node::default();
    node.run(&state, enforce());
    assert_eq!(node.gathered, [""; 0], "what was never right did not drift");
    let mut node = node.with("file:/etc/issue", "content", "x");
    let found = node.run(&state, report.clone());
    let related = found.results[0].related.as_ref().unwrap();
    assert_eq!(Some(related.window), found.results[0].drift_window);
    let again = node.run(&state, report.clone());
    assert_eq!(again.results[0].related, None, "it is known already");
    let mut node = node.with("file:/etc/issue", "content", "y");
    node.run(&state, observe());
    assert_eq!(node.gathered, ["file:/etc/issue [100, 200]", "file:/etc/issue [200, 400]"]);
    node.log.clear();
    let mut node = node.with("file:/etc/issue", "content", "z");
    let corrected = node.run(&state, enforce());
    assert!(corrected.results[0].related.is_some() && node.log == ["correct file:/etc/issue"]);
    let mut node = node.with("file:/etc/issue", "content", "w");
    let without = node.run(&state, RunSettings { gathers_related: false, ..enforce() });
    assert_eq!((&without.results[0].related, without.results[0].outcome), (&None, Outcome::Corrected));
}

#[test]
fn a_changed_document_is_a_rollout_and_a_hand_edit_beneath_it_also_drifted() {
    let mut node = Node::default();
    node.run(&state(vec![file("/etc/issue", "a")]), enforce());
    insta::assert_snapshot!(table(&node.clone().run(&state(vec![file("/etc/issue", "b")]), enforce())), @r"
    rolled out
    file:/etc/issue different corrected rollout
    ");
    node = node.with("file:/etc/issue", "content", "edited");
    insta::assert_snapshot!(table(&node.run(&state(vec![file("/etc/issue", "b")]), enforce())), @r"
    drift corrected
    file:/etc/issue different corrected rollout also_drifted
    ");
}

#[test]
fn what_also_drifted_needs_both_switches() {
    for (settings, clause) in [
        (RunSettings { on_rollout: OnRollout::Wait, ..enforce() }, file("/etc/issue", "b")),
        (RunSettings { on_drift: OnDrift::Report, ..enforce() }, file("/etc/issue", "b")),
        (enforce(), file("/etc/issue", "b").tell()),
        (enforce(), file("/etc/issue", "b").wait(SwitchFrom::Clause)),
    ] {
        let mut node = Node::default();
        node.run(&state(vec![file("/etc/issue", "a")]), enforce());
        node = node.with("file:/etc/issue", "content", "edited");
        let finished = node.run(&state(vec![clause]), settings);
        assert_eq!((finished.status, finished.results[0].outcome), (Status::DriftFound, Outcome::OutOfLine));
    }
}

#[test]
fn drift_that_is_only_told_stays_drift_found() {
    let wanted = state(vec![file("/etc/gate/tariffs.csv", "a").tell()]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    node = node.with("file:/etc/gate/tariffs.csv", "content", "edited");
    insta::assert_snapshot!(table(&node.run(&wanted, enforce())), @r"
    drift found
    file:/etc/gate/tariffs.csv different out_of_line drift left:on_drift
    ");
}

#[test]
fn a_rollout_waits_for_the_nodes_switch_and_is_unmet_by_the_clauses_own() {
    let waiting = Node::default()
        .run(&state(vec![file("/a", "a")]), RunSettings { on_rollout: OnRollout::Wait, ..enforce() });
    let unmet = Node::default().run(&state(vec![file("/a", "a").wait(SwitchFrom::Clause)]), enforce());
    let of_baseline =
        Node::default().run(&state(vec![file("/a", "a").wait(SwitchFrom::Baseline)]), enforce());
    assert_eq!(
        [waiting.status, unmet.status, of_baseline.status],
        [Status::RolloutWaiting, Status::Unmet, Status::RolloutWaiting]
    );
}

#[test]
fn a_hold_beats_everything_and_ends_at_its_hour() {
    let freeze = Freeze {
        no: 7,
        until: Timestamp::from_second(150).unwrap(),
        because: "festival on Auken".into(),
        clauses: BTreeSet::new(),
    };
    let settings = RunSettings { freezes: vec![freeze], now: true, ..enforce() };
    let mut node = Node::default();
    insta::assert_snapshot!(table(&node.run(&state(vec![file("/a", "a")]), settings.clone())), @r"
    rollout waiting
    file:/a different out_of_line rollout left:freeze
    ");
    assert_eq!(node.run(&state(vec![file("/a", "a")]), settings).status, Status::RolledOut);
}

#[test]
fn a_freeze_of_a_clause_leaves_the_others_and_the_longest_that_is_meant_is_named() {
    let freeze = |no, until, clauses: &[&str]| Freeze {
        no,
        until: Timestamp::from_second(until).unwrap(),
        because: "stocktaking".into(),
        clauses: clauses.iter().map(|clause| (*clause).to_owned()).collect(),
    };
    let settings = RunSettings {
        freezes: vec![
            freeze(1, 150, &["file:/a"]),
            freeze(2, 180, &["file:/c*", "file:/d"]),
            freeze(3, 50, &[]),
        ],
        ..enforce()
    };
    insta::assert_snapshot!(table(&Node::default().run(&state(vec![file("/a", "a"), file("/b", "b")]), settings.clone())), @r"
    rollout waiting
    file:/a different out_of_line rollout left:freeze
    file:/b different corrected rollout
    ");
    let now = Timestamp::from_second(100).unwrap();
    assert_eq!(settings.freeze_at(now), None, "that of all clauses is over");
    assert_eq!(
        settings.freeze_of(&ClauseAddress::parse("file:/a").unwrap(), now).map(|freeze| freeze.no),
        Some(1)
    );
    assert_eq!(
        settings
            .freeze_of(&ClauseAddress::parse("file:/a").unwrap(), Timestamp::from_second(20).unwrap())
            .map(|freeze| freeze.no),
        Some(1)
    );
    assert_eq!(
        settings
            .freeze_of(&ClauseAddress::parse("file:/b").unwrap(), Timestamp::from_second(20).unwrap())
            .map(|freeze| freeze.no),
        Some(3)
    );
}

#[test]
fn what_cut_the_way_to_the_server_is_not_brought_in_again_until_something_else_is_wanted() {
    let wanted = state(vec![file("/a", "a"), file("/b", "b")]);
    let at = Timestamp::from_second(50).unwrap();
    let clause = &wanted.clauses[0];
    let put_back = [(clause.address.clone(), RevertedChange { wanted: clause.wanted.clone(), at })].into();
    let settings = RunSettings { put_back, ..enforce() };
    let mut node = Node::default();
    insta::assert_snapshot!(table(&node.run(&wanted, settings.clone())), @r"
    rollout waiting
    file:/a different out_of_line rollout left:cut_the_way
    file:/b different corrected rollout
    ");
    assert_eq!(
        node.run(&state(vec![file("/a", "another"), file("/b", "b")]), settings).status,
        Status::RolledOut
    );
}

#[test]
fn grace_counts_from_the_first_run_that_found_the_drift_as_it_is() {
    let wanted = state(vec![file("/a", "a").grace(150)]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    node = node.with("file:/a", "content", "edited");
    assert_eq!(node.run(&wanted, observe()).status, Status::DriftFound);
    assert_eq!(
        memory_of(&node, "file:/a").drift.as_ref().unwrap().found_so_at,
        Timestamp::from_second(200).unwrap()
    );
    let left = node.run(&wanted, enforce());
    assert_eq!(
        left.results[0].decision,
        Decision::Leave { why: Leave::Grace { until: Timestamp::from_second(350).unwrap() } }
    );
    assert_eq!(node.run(&wanted, enforce()).status, Status::DriftCorrected);
    assert_eq!(memory_of(&node, "file:/a").drift, None);
}

#[test]
fn grace_does_not_hold_back_a_rollout_and_now_opens_it() {
    let wanted = state(vec![file("/a", "a").grace(9_999)]);
    let mut node = Node::default();
    assert_eq!(node.run(&wanted, enforce()).status, Status::RolledOut);
    node = node.with("file:/a", "content", "edited");
    assert_eq!(node.run(&wanted, RunSettings { now: true, ..enforce() }).status, Status::DriftCorrected);
}

#[test]
fn outside_the_change_window_nothing_is_begun_unless_it_is_opened() {
    let window = Some(ChangeWindow {
        opens: Timestamp::from_second(500).unwrap(),
        closes: Timestamp::from_second(600).unwrap(),
    });
    let wanted = state(vec![file("/a", "a")]);
    let mut node = Node::default();
    insta::assert_snapshot!(table(&node.run(&wanted, RunSettings { window, ..enforce() })), @r"
    rollout waiting
    file:/a different out_of_line rollout left:window
    ");
    assert_eq!(
        node.clone().run(&wanted, RunSettings { window, now: true, ..enforce() }).status,
        Status::RolledOut
    );
    node.secs = 500;
    assert_eq!(node.clone().run(&wanted, RunSettings { window, ..enforce() }).status, Status::RolloutWaiting);
    node.secs = 400;
    assert_eq!(node.run(&wanted, RunSettings { window, ..enforce() }).status, Status::RolledOut);
}

#[test]
fn a_clause_waits_until_the_windows_of_its_assignments_and_of_the_node_are_all_open() {
    let hours = |from: &str, until: &str| {
        serde_json::from_value::<WeeklyHours>(json!({ "from": from, "until": until })).unwrap()
    };
    let at = |text: &str| text.parse::<Timestamp>().unwrap();
    let windowed = |windows: &[(&str, &str)]| Clause {
        change_windows: windows.iter().map(|(from, until)| vec![hours(from, until)]).collect(),
        ..clause("file:/a")
    };
    let node = vec![hours("20:00", "06:00")];
    let settings = |now: Timestamp, node: &[WeeklyHours]| RunSettings {
        window: crate::hours::window_at(node, &jiff::tz::TimeZone::UTC, now),
        change_window: node.to_vec(),
        ..enforce()
    };
    for (now, windows, is_node_set, opens) in [
        ("2026-11-23T12:00:00Z", &[][..], false, None),
        ("2026-11-23T12:00:00Z", &[], true, Some("2026-11-23T20:00:00Z")),
        ("2026-11-23T12:00:00Z", &[("22:00", "23:00")], false, Some("2026-11-23T22:00:00Z")),
        ("2026-11-23T22:30:00Z", &[("22:00", "23:00")], true, None),
        ("2026-11-23T21:00:00Z", &[("22:00", "23:00")], true, Some("2026-11-23T22:00:00Z")),
        // The assignment's opens while the node's is closed: the node's counts too, on the next day.
        ("2026-11-23T12:00:00Z", &[("05:00", "21:00")], true, Some("2026-11-23T20:00:00Z")),
        ("2026-11-23T21:30:00Z", &[("05:00", "21:00")], true, Some("2026-11-24T05:00:00Z")),
        (
            "2026-11-23T12:00:00Z",
            &[("22:00", "02:00"), ("01:00", "03:00")],
            true,
            Some("2026-11-24T01:00:00Z"),
        ),
    ] {
        let now = at(now);
        let settings = settings(now, if is_node_set { &node } else { &[] });
        assert_eq!(
            settings.closed_until(&windowed(windows), now),
            opens.map(at),
            "{now} {windows:?} {is_node_set}"
        );
        let open_anyway = RunSettings { now: true, ..settings };
        assert_eq!(open_anyway.closed_until(&windowed(windows), now), None);
    }
    let never = windowed(&[("01:00", "02:00"), ("03:00", "04:00")]);
    let now = at("2026-11-23T12:00:00Z");
    assert!(
        settings(now, &[]).closed_until(&never, now).is_some(),
        "windows that are never open at once end the search"
    );
    let wanted = EffectiveState::new(
        vec![
            Clause { change_windows: vec![vec![hours("05:00", "06:00")]], ..file("/a", "a") },
            file("/b", "b"),
        ],
        &DigestKey::new("k"),
    );
    insta::assert_snapshot!(table(&Node::default().run(&wanted, enforce())), @r"
    rollout waiting
    file:/a different out_of_line rollout left:window
    file:/b different corrected rollout
    ");
}

#[test]
fn what_needs_a_failed_clause_is_blocked_by_the_first_cause_and_the_rest_goes_on() {
    let mut node = Node { fails: BTreeSet::from(["package:kiosk-shell".into()]), ..Node::default() };
    let wanted = state(vec![
        clause("package:kiosk-shell"),
        conf("a").needs("package:kiosk-shell"),
        service().needs("file:/etc/kiosk/shell.conf"),
        file("/etc/issue", "x"),
    ]);
    insta::assert_snapshot!(table(&node.run(&wanted, enforce())), @r"
    failed
    package:kiosk-shell different failed rollout (correct: no such version)
    file:/etc/kiosk/shell.conf different blocked rollout by package:kiosk-shell first package:kiosk-shell
    service:kiosk-shell different blocked rollout by file:/etc/kiosk/shell.conf first package:kiosk-shell
    file:/etc/issue different corrected rollout
    ");
    assert!(node.due.is_empty(), "nothing was changed that sets off a reaction");
}

#[test]
fn a_blocked_clause_counts_by_its_own_cause_if_the_first_one_did_not_fail() {
    let wanted = state(vec![file("/a", "a").wait(SwitchFrom::Clause), file("/b", "b").needs("file:/a")]);
    let finished = Node::default().run(&wanted, enforce());
    assert_eq!(finished.status, Status::Unmet);
    let only_blocked: Vec<ClauseResult> = finished.results[1..].to_vec();
    assert_eq!(status_of(&only_blocked, false), Status::RolloutWaiting);
}

#[test]
fn needs_gate_acting_never_looking() {
    let mut node = Node { fails: BTreeSet::from(["package:p".into()]), ..Node::default() }
        .with("file:/a", "content", "a");
    let finished = node.run(&state(vec![clause("package:p"), file("/a", "a").needs("package:p")]), enforce());
    assert_eq!(finished.results[1].outcome, Outcome::InLine);
}

#[test]
fn what_cannot_be_inspected_fails_unless_a_need_is_missing() {
    let unreadable = |node: Node| Node {
        uninspectable: BTreeSet::from(["file:/a".into()]),
        fails: BTreeSet::from(["package:p".into()]),
        ..node
    };
    let wanted = state(vec![clause("package:p"), file("/a", "a").needs("package:p")]);
    insta::assert_snapshot!(table(&unreadable(Node::default()).run(&wanted, observe())), @r"
    rollout waiting
    package:p different out_of_line rollout left:observing would:correct
    file:/a unseen blocked by package:p first package:p would:blocked (inspect: cannot be read)
    ");
    insta::assert_snapshot!(table(&unreadable(Node::default().with("package:p", "version", "1")).run(&wanted, enforce())), @r"
    failed
    package:p alike in_line
    file:/a unseen failed (inspect: cannot be read)
    ");
}

#[test]
fn corrected_and_still_different_is_a_failure_to_verify() {
    let mut node = Node { lies: BTreeSet::from(["file:/a".into()]), ..Node::default() };
    let finished = node.run(&state(vec![file("/a", "a")]), enforce());
    insta::assert_snapshot!(table(&finished), @r"
    failed
    file:/a different failed rollout (verify: it still differs after the correction)
    ");
    assert_eq!(finished.results[0].still_different, finished.results[0].differences);
}

#[test]
fn unsupported_clauses_are_told_and_outrank_only_in_line() {
    let undecidable =
        Clause { undecidable: Some("the node did not report about.arch".into()), ..file("/a", "a") };
    let mut node = Node::default().with("file:/b", "content", "b");
    let wanted = state(vec![undecidable, file("/b", "b")]);
    assert_eq!(node.run(&wanted, enforce()).status, Status::NotAllSeen);
    assert_eq!(node.with("file:/b", "content", "x").run(&wanted, enforce()).status, Status::DriftCorrected);
}

#[test]
fn a_correction_sets_off_the_reaction_once_at_the_targets_place() {
    let wanted = |content: &str| state(vec![conf(content), service()]);
    let mut node = Node::default().with("service:kiosk-shell", "running", true);
    insta::assert_snapshot!(table(&node.run(&wanted("a"), enforce())), @r"
    rolled out
    file:/etc/kiosk/shell.conf different corrected rollout
    service:kiosk-shell alike in_line restart:done
    ");
    assert_eq!(node.log, ["correct file:/etc/kiosk/shell.conf", "restart service:kiosk-shell"]);
    assert!(node.due.is_empty());
    node.run(&wanted("a"), enforce());
    assert_eq!(node.log.len(), 2, "a second run does nothing");
}

#[test]
fn a_service_started_in_this_run_is_not_restarted() {
    let mut node = Node::default().with("service:kiosk-shell", "running", false);
    let finished = node.run(&state(vec![conf("a"), service()]), enforce());
    assert_eq!(finished.results[1].reaction.as_ref().unwrap().state, ReactionState::NotNeeded);
    assert_eq!(node.log, ["correct file:/etc/kiosk/shell.conf", "correct service:kiosk-shell"]);
}

#[test]
fn a_service_wanted_stopped_does_not_react() {
    let stopped = clause("service:kiosk-shell")
        .with("running", false)
        .reacts("file:/etc/kiosk/shell.conf", Reaction::Restart);
    let mut node = Node::default().with("service:kiosk-shell", "running", false);
    node.run(&state(vec![conf("a"), stopped]), enforce());
    assert_eq!(node.log, ["correct file:/etc/kiosk/shell.conf"]);
}

#[test]
fn restart_includes_reload() {
    let mut due = Vec::new();
    let address = |text: &str| ClauseAddress::parse(text).unwrap();
    for (cause, reaction) in [("file:/a", Reaction::Restart), ("file:/b", Reaction::Reload)] {
        let cause = DueCause {
            address: address(cause),
            found_before: crate::digest::of_contents(b""),
            happened: false,
        };
        DueReaction::set_off(&mut due, &address("service:s"), reaction, cause, Timestamp::UNIX_EPOCH);
    }
    assert_eq!((due.len(), due[0].reaction, due[0].causes.len()), (1, Reaction::Restart, 2));
}

#[test]
fn a_run_cut_off_before_the_change_forgets_the_reaction() {
    let wanted = state(vec![conf("a"), service()]);
    let mut node = Node::default().with("service:kiosk-shell", "running", true).with(
        "file:/etc/kiosk/shell.conf",
        "content",
        "old",
    );
    node.stop_before = Some("file:/etc/kiosk/shell.conf".into());
    assert!(node.run_part(&wanted, enforce(), &Selection::Whole).is_none());
    assert_eq!(node.due.len(), 1, "the reaction is kept before the change");
    node.stop_before = None;
    let finished = node.run(&wanted, observe());
    assert!(finished.due.is_empty(), "the file is as before: nothing was changed, nothing is restarted");
}

#[test]
fn a_run_cut_off_after_the_change_reacts_in_the_next_one() {
    let wanted = state(vec![conf("a"), service()]);
    let mut node = Node::default().with("service:kiosk-shell", "running", true).with(
        "file:/etc/kiosk/shell.conf",
        "content",
        "old",
    );
    node.stop_before = Some("file:/etc/kiosk/shell.conf".into());
    node.run_part(&wanted, enforce(), &Selection::Whole);
    node.stop_before = None;
    node = node.with("file:/etc/kiosk/shell.conf", "content", "a");
    insta::assert_snapshot!(table(&node.run(&wanted, observe())), @r"
    rollout waiting
    file:/etc/kiosk/shell.conf alike in_line
    service:kiosk-shell alike in_line restart:due
    ");
    insta::assert_snapshot!(table(&node.run(&wanted, enforce())), @r"
    in line
    file:/etc/kiosk/shell.conf alike in_line
    service:kiosk-shell alike in_line restart:done
    ");
}

#[test]
fn a_failed_reaction_stays_and_is_tried_three_times_then_on_a_new_state() {
    let wanted = state(vec![conf("a"), service()]);
    let mut node =
        Node { reactions_fail: true, ..Node::default() }.with("service:kiosk-shell", "running", true);
    let restarts = |node: &Node| node.log.iter().filter(|line| line.starts_with("restart")).count();
    for tries in [1, 2, 3, 3] {
        let finished = node.run(&wanted, enforce());
        assert_eq!((finished.status, restarts(&node)), (Status::Failed, tries));
    }
    node.reactions_fail = false;
    let finished = node.run(&state(vec![conf("a"), service(), file("/b", "b")]), enforce());
    assert_eq!((restarts(&node), finished.due.len()), (4, 0));
}

#[test]
fn a_reaction_waits_while_its_target_is_blocked_or_held() {
    let wanted = state(vec![file("/a", "a").tell(), conf("a"), service().needs("file:/a")]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    node = node.with("file:/a", "content", "edited").with("file:/etc/kiosk/shell.conf", "content", "edited");
    insta::assert_snapshot!(table(&node.run(&wanted, enforce())), @r"
    drift found
    file:/a different out_of_line drift left:on_drift
    file:/etc/kiosk/shell.conf different corrected drift
    service:kiosk-shell alike in_line restart:due
    ");
}

#[test]
fn a_command_without_a_condition_only_reacts() {
    let index = clause("command:index").with("argv", json!(["/bin/index"])).reacts("file:/a", Reaction::Run);
    let mut node = Node::default();
    insta::assert_snapshot!(table(&node.run(&state(vec![file("/a", "a"), index.clone()]), enforce())), @r"
    rolled out
    file:/a different corrected rollout
    command:index - idle run:done
    ");
    insta::assert_snapshot!(table(&node.run(&state(vec![file("/a", "a"), index]), enforce())), @r"
    in line
    file:/a alike in_line
    command:index - idle
    ");
}

#[test]
fn what_our_own_package_change_overwrites_is_corrected_once_more_and_is_no_drift() {
    let mut node =
        Node { overwrites: Some(("package:kiosk-shell".into(), "/etc/issue".into())), ..Node::default() };
    let wanted = state(vec![file("/etc/issue", "ours"), clause("package:kiosk-shell").with("version", "1")]);
    insta::assert_snapshot!(table(&node.run(&wanted, enforce())), @r"
    rolled out
    file:/etc/issue different corrected target_moved
    package:kiosk-shell different corrected rollout
    ");
    assert_eq!(
        node.log,
        ["correct file:/etc/issue", "correct package:kiosk-shell", "correct file:/etc/issue"]
    );
    assert_eq!(node.run(&wanted, enforce()).status, Status::InLine);
}

#[test]
fn what_this_run_brought_along_was_not_there_before_it_looked_and_is_no_drift() {
    let mut node = Node { brings: Some(("package:labsvc".into(), "labsvc".into())), ..Node::default() };
    let service = || clause("service:labsvc").with("running", true);
    let wanted =
        state(vec![clause("package:labsvc").with("version", "1"), service(), file("/etc/issue", "ours")]);
    let finished = node.run(&wanted, enforce());
    let by = |at: usize| {
        (
            finished.results[at].already_there,
            finished.results[at].changed_by.as_ref().map(ClauseAddress::as_str),
        )
    };
    assert_eq!((by(0), by(1), by(2)), ((false, None), (false, Some("package:labsvc")), (false, None)));

    // An upgrade that comes first in the order writes over a file that is looked at later: nobody changed it.
    node.overwrites = Some(("package:labsvc".into(), "/etc/issue".into()));
    let upgraded =
        state(vec![clause("package:labsvc").with("version", "2"), service(), file("/etc/issue", "ours")]);
    let finished = node.run(&upgraded, enforce());
    let issue = &finished.results[2];
    assert_eq!(
        (issue.cause, issue.outcome, &issue.drift_window),
        (Some(Cause::TargetMoved), Outcome::Corrected, &None)
    );
    assert_eq!(issue.changed_by.as_ref().unwrap().as_str(), "package:labsvc");
    // What was there already is said to have been.
    let finished =
        Node::default().with("service:labsvc", "running", true).run(&state(vec![service()]), enforce());
    assert!(finished.results[0].already_there && finished.results[0].changed_by.is_none());
}

#[test]
fn a_partial_run_says_what_it_left_out_and_what_of_it_is_known_to_be_out_of_line() {
    let wanted = state(vec![file("/a", "a"), file("/b", "b"), file("/c", "c")]);
    let mut node = Node::default();
    assert_eq!(node.run(&wanted, enforce()).part, None);
    node = node.with("file:/a", "content", "edited");
    node.run(&wanted, observe());
    let part = Selection::Chosen(BTreeSet::from([ClauseAddress::parse("file:/b").unwrap()]));
    let finished = node.run_part(&wanted, enforce(), &part).unwrap();
    assert_eq!(
        (finished.status, finished.part),
        (Status::InLine, Some(PartOf { left_out: 2, known_out_of_line: 1 }))
    );
    assert_eq!(
        finished.part.unwrap().words(),
        "partial: 2 clauses were left out, 1 of them known to be out of line"
    );
}

#[test]
fn a_further_edit_during_an_open_grace_has_its_own() {
    let wanted = state(vec![file("/a", "a").grace(250)]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    let edited = |node: Node, content: &str| node.with("file:/a", "content", content);
    node = edited(node, "first");
    let left_until = |finished: &Finished| match &finished.results[0].decision {
        Decision::Leave { why: Leave::Grace { until } } => Some(until.as_second()),
        _ => None,
    };
    assert_eq!(left_until(&node.run(&wanted, enforce())), Some(450));
    node = edited(node, "second");
    let finished = node.run(&wanted, enforce());
    assert_eq!(left_until(&finished), Some(550), "found at 300");
    let window = finished.results[0].drift_window.unwrap();
    assert_eq!((window.from.as_second(), window.to.as_second()), (100, 200), "it is the same episode");
    assert_eq!(left_until(&node.run(&wanted, enforce())), Some(550));
    assert_eq!(left_until(&node.run(&wanted, enforce())), Some(550));
    assert_eq!(node.run(&wanted, enforce()).results[0].outcome, Outcome::Corrected);
}

#[test]
fn a_complete_state_without_an_address_closes_its_memory_and_a_partial_run_prunes_nothing() {
    let mut node = Node::default();
    node.run(&state(vec![file("/a", "a"), file("/b", "b")]), enforce());
    let only_b = state(vec![file("/b", "b")]);
    node.run_part(
        &only_b,
        enforce(),
        &Selection::Chosen(BTreeSet::from([ClauseAddress::parse("file:/b").unwrap()])),
    );
    assert_eq!(memory_of(&node, "file:/a").closed_at, None);
    node.run(&only_b, enforce());
    assert_eq!(memory_of(&node, "file:/a").closed_at, Some(Timestamp::from_second(300).unwrap()));
    node.things.remove("file:/a");
    let back = node.run(&state(vec![file("/a", "a"), file("/b", "b")]), enforce());
    assert_eq!(
        back.results[0].newness,
        Some(Newness::HereBefore { until: Timestamp::from_second(300).unwrap() })
    );
}

#[test]
fn a_partial_run_touches_its_part_only_and_looks_at_what_that_needs() {
    let wanted = state(vec![file("/a", "a"), file("/b", "b").needs("file:/a"), file("/c", "c")]);
    let part = Selection::Chosen(BTreeSet::from([ClauseAddress::parse("file:/b").unwrap()]));
    insta::assert_snapshot!(table(&Node::default().run_part(&wanted, enforce(), &part).unwrap()), @r"
    rollout waiting
    file:/b different blocked rollout by file:/a first file:/a
    ");
}

#[test]
fn a_reaction_outside_of_a_partial_run_stays_due() {
    let mut node = Node::default().with("service:kiosk-shell", "running", true);
    let part =
        Selection::Chosen(BTreeSet::from([ClauseAddress::parse("file:/etc/kiosk/shell.conf").unwrap()]));
    let finished = node.run_part(&state(vec![conf("a"), service()]), enforce(), &part).unwrap();
    assert_eq!((finished.status, finished.due.len()), (Status::RolloutWaiting, 1));
}

#[test]
fn an_event_that_was_not_asked_for_changes_nothing() {
    let wanted = state(vec![file("/a", "a")]);
    let key = key();
    let input = RunInput {
        state: &wanted,
        settings: enforce(),
        memories: Memories::new(),
        due: Vec::new(),
        part: Selection::Whole,
        on_demand: false,
        key: &key,
    };
    let mut run = Run::new(input);
    run.begin(Timestamp::UNIX_EPOCH);
    assert_eq!(run.on_event(RunEvent::Reacted(Ok(Vec::new()), 0), Timestamp::UNIX_EPOCH), Err(OutOfOrder));
    assert!(
        run.on_event(
            RunEvent::Inspected(Inspection::Unsupported("no backend".into()), 0),
            Timestamp::UNIX_EPOCH
        )
        .is_ok()
    );
}

#[test]
fn a_removed_thing_is_seen_as_presence() {
    let mut node = Node::default().with("account:guest", "uid", 1);
    let finished = node.run(&state(vec![clause("account:guest").gone(Gone::Yes)]), enforce());
    assert_eq!(finished.status, Status::RolledOut);
    assert!(node.things.is_empty());
}

#[test]
fn a_target_that_moved_and_remains_counts_as_a_waiting_rollout() {
    let wanted = |switch: Clause| state(vec![switch]);
    let newest = clause("package:kiosk-shell").with("version", ">= 1");
    let mut node = Node::default().with("package:kiosk-shell", "version", "1.0");
    assert_eq!(node.run(&wanted(newest.clone()), enforce()).status, Status::InLine);
    // The same is wanted and found, and yet it no longer fits: as if the sources offered a newer one.
    let moved = memory_of(&node, "package:kiosk-shell").clone();
    let too_old = Clause {
        wanted: moved.alike.as_ref().unwrap().wanted.clone(),
        ..newest.wait(SwitchFrom::Clause).with("version", ">= 2")
    };
    let too_old = EffectiveState::new(vec![too_old], &key());
    insta::assert_snapshot!(table(&node.run(&too_old, enforce())), @r"
    rollout waiting
    package:kiosk-shell different out_of_line target_moved left:on_rollout
    ");
}

#[test]
fn what_only_a_person_can_change_is_unmet() {
    let mut finished = Node::default().run(&state(vec![file("/a", "a")]), observe());
    let result = &mut finished.results[0];
    let found = result.found.clone().unwrap();
    let want = DecisionInput {
        clause: &file("/a", "a"),
        correctable: false,
        cause: CauseFound {
            cause: Cause::Rollout,
            also_drifted: false,
            window: None,
            newness: Some(Newness::NewHere),
        },
        found: &found,
        drift_found_at: Timestamp::UNIX_EPOCH,
        blocker: None,
    };
    result.decision = decide(&want, &enforce(), Timestamp::UNIX_EPOCH);
    result.would = None;
    assert_eq!(result.decision, Decision::Leave { why: Leave::OnlyAPerson });
    assert_eq!(status_of(&finished.results, false), Status::Unmet);
    finished.results[0].cause = Some(Cause::Drift);
    assert_eq!(
        status_of(&finished.results, false),
        Status::DriftFound,
        "a probe that was alike and is not any more has drifted"
    );
}

#[test]
fn a_reaction_of_what_is_no_longer_wanted_is_dropped() {
    let mut node =
        Node { reactions_fail: true, ..Node::default() }.with("service:kiosk-shell", "running", true);
    node.run(&state(vec![conf("a"), service()]), enforce());
    assert_eq!(node.due.len(), 1);
    let finished = node.run(&state(vec![conf("a")]), enforce());
    assert_eq!((finished.due.len(), finished.status), (0, Status::InLine));
}

mod properties {
    use super::*;
    use proptest::prelude::*;

    /// A clause: content, earlier content, whether it is only reported, whether it waits, and what it needs.
    type Drawn = (u8, u8, bool, bool, Option<usize>);

    /// Six files and a service, with random contents, switches and needs; a node in a random condition.
    fn scene() -> impl Strategy<Value = (Vec<Drawn>, bool, Vec<u8>)> {
        let one = (0..3u8, 0..4u8, any::<bool>(), any::<bool>(), proptest::option::of(0..5usize));
        (proptest::collection::vec(one, 1..6), any::<bool>(), proptest::collection::vec(0..4u8, 6))
    }

    fn build(clauses: &[Drawn]) -> EffectiveState {
        let mut built: Vec<Clause> = Vec::new();
        for (at, (content, _, tell, wait, need)) in clauses.iter().enumerate() {
            let mut one = file(&format!("/{at}"), &content.to_string());
            one = if *tell { one.tell() } else { one };
            one = if *wait { one.wait(SwitchFrom::Baseline) } else { one };
            one = match need {
                Some(need) if *need < at => one.needs(&format!("file:/{need}")),
                _ => one,
            };
            built.push(one);
        }
        let reacting = clause("service:s").with("running", true).reacts("file:/0", Reaction::Restart);
        built.push(reacting);
        state(built)
    }

    proptest! {
        #[test]
        fn enforce_does_what_observe_said_and_observe_does_nothing((clauses, running, edits) in scene()) {
            let mut node = Node::default().with("service:s", "running", running);
            // A history: an earlier state was applied, then someone edited.
            let earlier: Vec<_> = clauses.iter().map(|one| (one.1.min(2), one.1, false, false, None)).collect();
            node.run(&build(&earlier), enforce());
            for (at, edit) in edits.iter().enumerate().take(clauses.len()) {
                if *edit < 3 { node = node.with(&format!("file:/{at}"), "content", edit.to_string()); }
            }
            node.log.clear();
            let wanted = build(&clauses);
            let observed = node.run(&wanted, observe());
            prop_assert_eq!(&node.log, &Vec::<String>::new());
            let did = node.run(&wanted, enforce());
            for (observed, did) in observed.results.iter().zip(&did.results) {
                prop_assert_eq!(observed.would.clone().unwrap_or(Decision::Nothing), did.decision.clone(), "{}", observed.address);
                let would_react = observed.reaction.as_ref().is_some_and(|reaction| reaction.state == ReactionState::Would);
                let reacted = did.reaction.as_ref().is_some_and(|reaction| reaction.state == ReactionState::Done);
                prop_assert_eq!(would_react, reacted, "{}", observed.address);
            }
            node.log.clear();
            node.run(&wanted, enforce());
            prop_assert_eq!(&node.log, &Vec::<String>::new(), "a second run does nothing");
        }
    }
}
