//! Runs that a person asked for: clauses corrected once, exactly what was observed before, stopped before the end.

use super::*;
use crate::run::Observed;
use crate::sweep::observed_by;

fn of(addresses: &[&str]) -> BTreeSet<ClauseAddress> {
    addresses.iter().map(|address| ClauseAddress::parse(address).unwrap()).collect()
}

#[test]
fn correct_once_opens_the_switches_of_the_named_clauses_and_of_no_other() {
    let wanted = state(vec![file("/a", "a"), file("/b", "b"), file("/c", "c")]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    for path in ["file:/a", "file:/b"] {
        node = node.with(path, "content", "changed by hand");
    }
    let wanted = state(vec![file("/a", "a"), file("/b", "b"), file("/c", "other")]);
    let settings = RunSettings {
        on_drift: OnDrift::Report,
        on_rollout: OnRollout::Wait,
        correct_once: of(&["file:/a", "file:/c"]),
        ..enforce()
    };
    insta::assert_snapshot!(table(&node.run(&wanted, settings)), @r"
    drift found
    file:/a different corrected drift
    file:/b different out_of_line drift left:on_drift
    file:/c different corrected rollout
    ");
}

#[test]
fn correct_once_goes_through_no_freeze_no_grace_and_no_need() {
    let freeze = Freeze {
        no: 7,
        until: Timestamp::from_second(150).unwrap(),
        because: "stocktaking".into(),
        clauses: BTreeSet::new(),
    };
    let settings = RunSettings {
        on_rollout: OnRollout::Wait,
        freezes: vec![freeze],
        correct_once: of(&["file:/a"]),
        now: true,
        ..enforce()
    };
    let finished = Node::default().run(&state(vec![file("/a", "a")]), settings);
    assert!(matches!(finished.results[0].decision, Decision::Leave { why: Leave::Freeze { no: 7, .. } }));
    let wanted = state(vec![file("/a", "a")]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    let mut node = node.with("file:/a", "content", "changed by hand");
    let settings = RunSettings {
        on_drift: OnDrift::Report,
        grace_secs: 3_600,
        correct_once: of(&["file:/a"]),
        ..enforce()
    };
    let finished = node.run(&wanted, settings);
    assert!(matches!(finished.results[0].decision, Decision::Leave { why: Leave::Grace { .. } }));
}

#[test]
fn exactly_what_was_observed_is_corrected() {
    let wanted = state(vec![file("/a", "a"), file("/b", "b"), file("/c", "c")]);
    let mut node = Node::default();
    node.run(&wanted, enforce());
    let mut node = node.with("file:/a", "content", "x").with("file:/b", "content", "x");
    let observed: Observed = observed_by(&node.run(&wanted, observe()).results);
    assert_eq!(observed.keys().cloned().collect::<BTreeSet<_>>(), of(&["file:/a", "file:/b"]));
    // Since then another hand changed one of them, and one that was in line.
    let mut node = node.with("file:/b", "content", "y").with("file:/c", "content", "y");
    let settings = RunSettings { observed: Some(observed.clone()), ..enforce() };
    insta::assert_snapshot!(table(&node.run(&wanted, settings)), @r"
    drift found
    file:/a different corrected drift
    file:/b different out_of_line drift left:changed_since_observed
    file:/c different out_of_line drift left:changed_since_observed
    ");
    // And another state is wanted.
    let other = state(vec![file("/a", "other"), file("/b", "b"), file("/c", "c")]);
    let settings = RunSettings { observed: Some(observed), ..enforce() };
    let finished = node.run(&other, settings);
    assert_eq!(finished.results[0].decision, Decision::Leave { why: Leave::ChangedSinceObserved });
}

#[test]
fn a_run_that_is_stopped_ends_what_it_has_begun_and_begins_no_other_clause() {
    let wanted = state(vec![conf("a"), file("/b", "b"), service(), file("/c", "c")]);
    let mut node = Node { stopped_at: Some("file:/b".to_owned()), ..Node::default() }.with(
        "service:kiosk-shell",
        "running",
        true,
    );
    let finished = node.run(&wanted, enforce());
    insta::assert_snapshot!(table(&finished), @r"
    rollout waiting
    file:/etc/kiosk/shell.conf different corrected rollout
    file:/b different corrected rollout
    ");
    assert_eq!(finished.part.map(|part| part.left_out), Some(2));
    assert_eq!(finished.due.len(), 1, "the reaction stays due");
    node.stopped_at = None;
    let finished = node.run(&wanted, enforce());
    assert_eq!((finished.status, finished.part), (Status::RolledOut, None));
    assert!(node.due.is_empty());
    // Stopped at its last clause it has left nothing out.
    node.stopped_at = Some("file:/c".to_owned());
    assert_eq!(node.run(&wanted, enforce()).part, None);
}

#[test]
fn what_comes_out_is_told_clause_by_clause() {
    let wanted = state(vec![conf("a"), file("/b", "b"), service(), file("/c", "c")]);
    let mut node =
        Node::default().with("service:kiosk-shell", "running", true).with("file:/b", "content", "b");
    node.run(&wanted, enforce());
    let told: Vec<String> =
        node.settled.iter().filter(|told| !told.is_empty()).map(|told| told.join(" ")).collect();
    // The service is told once it has reacted, and not before.
    let expected = ["file:/etc/kiosk/shell.conf", "file:/b", "service:kiosk-shell", "file:/c"];
    assert_eq!(told, expected);
    // One that reacts to what comes after it is told again.
    let wanted = state(vec![service(), conf("b")]);
    node.settled.clear();
    node.run(&wanted, enforce());
    let told: Vec<&String> = node.settled.iter().flatten().collect();
    assert_eq!(told, ["service:kiosk-shell", "file:/etc/kiosk/shell.conf", "service:kiosk-shell"]);
}
