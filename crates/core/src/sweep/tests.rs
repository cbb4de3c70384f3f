use super::*;
use crate::address::ClauseAddress;
use crate::run::{
    ClauseResult, Counts, Decision, Freeze, Leave, Mode, Outcome, Part, RunSettings, Selection, Status,
};
use crate::state::SwitchFrom;
use jiff::Timestamp;
use serde_json::json;
use std::collections::BTreeSet;

fn order(mode: Mode) -> SweepOrder {
    SweepOrder::of(mode)
}

fn of_clauses(clauses: &[&str]) -> Part {
    Part { clauses: clauses.iter().map(|clause| (*clause).to_owned()).collect(), ..Part::default() }
}

#[test]
fn what_an_order_cannot_mean_is_refused_with_its_field() {
    let wrong = |order: SweepOrder| order.check().unwrap_err().0;
    assert_eq!(wrong(SweepOrder { although_observing: true, ..order(Mode::Observe) }), "although_observing");
    assert_eq!(wrong(SweepOrder { correct_once: true, ..order(Mode::Enforce) }), "correct_once");
    let by_pattern =
        SweepOrder { correct_once: true, part: of_clauses(&["file:/etc/*"]), ..order(Mode::Enforce) };
    assert_eq!(wrong(by_pattern), "correct_once");
    let named =
        SweepOrder { correct_once: true, part: of_clauses(&["file:/etc/issue"]), ..order(Mode::Enforce) };
    assert_eq!(named.check(), Ok(()));
    assert_eq!(named.words(), "Correct once file:/etc/issue");
    assert_eq!(SweepOrder { read_all: true, now: true, ..order(Mode::Observe) }.check(), Ok(()));
    let looked_at = SweepOrder { mode: Mode::Observe, ..named };
    assert_eq!(looked_at.words(), "Observe file:/etc/issue, for correcting them once");
}

#[test]
fn a_frozen_node_and_one_that_observes_refuse_an_enforcing_order_and_no_observing_one() {
    let now = Timestamp::UNIX_EPOCH;
    let until = Timestamp::from_second(60).unwrap();
    let freeze = Freeze { no: 7, until, because: "stocktaking".to_owned(), clauses: BTreeSet::new() };
    let frozen = RunSettings { freezes: vec![freeze.clone()], ..RunSettings::of(Mode::Enforce) };
    let observing = RunSettings::of(Mode::Observe);
    let enforce = order(Mode::Enforce);
    assert_eq!(enforce.refused_by(&frozen, now), Some(Refused::by_freeze(&freeze)));
    assert_eq!(enforce.refused_by(&frozen, until), None, "it is over");
    assert_eq!(enforce.refused_by(&observing, now), Some(Refused::Observing));
    let although = SweepOrder { although_observing: true, ..order(Mode::Enforce) };
    assert_eq!(although.refused_by(&observing, now), None);
    let both = RunSettings { freezes: vec![freeze], ..observing };
    assert!(
        matches!(although.refused_by(&both, now), Some(Refused::Frozen { .. })),
        "never through a freeze"
    );
    assert_eq!(order(Mode::Observe).refused_by(&both, now), None);
}

#[test]
fn only_an_order_to_correct_once_opens_switches_and_only_of_its_clauses() {
    let chosen = Selection::Chosen([ClauseAddress::parse("file:/etc/issue").unwrap()].into());
    let usual = RunSettings { grace_secs: 60, ..RunSettings::of(Mode::Observe) };
    let plain = order(Mode::Enforce).run_settings(usual.clone(), &chosen, None);
    assert_eq!((plain.mode, plain.grace_secs, plain.correct_once.len()), (Mode::Enforce, 60, 0));
    let once =
        SweepOrder { correct_once: true, part: of_clauses(&["file:/etc/issue"]), ..order(Mode::Enforce) };
    assert_eq!(once.run_settings(usual.clone(), &chosen, None).correct_once.len(), 1);
    assert!(once.run_settings(usual, &Selection::Whole, None).correct_once.is_empty());
}

fn found(decision: Decision, would: Option<Decision>, outcome: Outcome) -> PreviewedClause {
    let address = ClauseAddress::parse("file:/etc/issue").unwrap();
    PreviewedClause { address, topics: Vec::new(), origins: Vec::new(), decision, would, outcome }
}

#[test]
fn what_an_order_would_do_follows_from_what_the_last_run_left_and_why() {
    let leave = |why| Decision::Leave { why };
    let on_drift = || leave(Leave::OnDrift { from: SwitchFrom::Group });
    let grace = || leave(Leave::Grace { until: Timestamp::UNIX_EPOCH });
    let all = [
        found(Decision::Nothing, None, Outcome::InLine),
        found(Decision::Correct, None, Outcome::Corrected),
        found(Decision::Correct, None, Outcome::Failed),
        found(on_drift(), None, Outcome::OutOfLine),
        found(grace(), None, Outcome::OutOfLine),
        found(leave(Leave::Observing), Some(Decision::Correct), Outcome::OutOfLine),
        found(leave(Leave::OnlyAPerson), None, Outcome::OutOfLine),
    ];
    let told = |order: SweepOrder| {
        let preview = preview_of(&order, &all);
        (preview.correct, serde_json::to_string(&preview.leave).unwrap())
    };
    let (correct, left) = told(order(Mode::Enforce));
    assert_eq!((correct, left.as_str()), (2, r#"{"grace":1,"on_drift":1,"only_a_person":1}"#));
    let (correct, left) = told(SweepOrder { now: true, ..order(Mode::Enforce) });
    assert_eq!((correct, left.as_str()), (3, r#"{"on_drift":1,"only_a_person":1}"#));
    assert_eq!(told(SweepOrder { part: of_clauses(&["file:/etc/motd"]), ..order(Mode::Enforce) }).0, 0);
    let once =
        SweepOrder { correct_once: true, part: of_clauses(&["file:/etc/issue"]), ..order(Mode::Enforce) };
    let (correct, left) = told(once);
    assert_eq!((correct, left.as_str()), (3, r#"{"grace":1,"only_a_person":1}"#));
}

fn result(address: &str, differing: &serde_json::Value) -> ClauseResult {
    let mut body = json!({
        "address": address, "severity": "high", "origins": [], "satisfies": [], "topics": [], "wanted": "w1:0",
        "found": "f1:0", "verdict": "different", "decision": { "due": "correct" }, "outcome": "corrected", "took_us": 1,
    });
    body.as_object_mut().unwrap().extend(differing.as_object().unwrap().clone());
    serde_json::from_value(body).unwrap()
}

#[test]
fn what_a_run_came_to_names_what_failed_and_what_was_left() {
    let results = [
        result("file:/a", &json!({})),
        result(
            "file:/b",
            &json!({ "outcome": "failed", "failure": { "at": "correct", "message": "no space left\nat all" } }),
        ),
        result(
            "file:/c",
            &json!({ "outcome": "out_of_line", "decision": { "due": "leave", "why": { "reason": "changed_since_observed" } } }),
        ),
    ];
    let came_of = CameOf::of(&results, Mode::Enforce, Status::Failed, 5);
    assert_eq!((came_of.counts.corrected, came_of.counts.failed, came_of.would), (1, 1, 0));
    assert_eq!(came_of.failed[0].message, "no space left");
    assert_eq!(came_of.left[0].why, Leave::ChangedSinceObserved);
    assert!(!came_of.is_in_line());
    let alone = CameOf::of(&results[..1], Mode::Enforce, Status::DriftCorrected, 5);
    assert!(alone.is_in_line());
    let many = Counts { blocked: u64::MAX, failed: u64::MAX, ..Counts::default() };
    assert!(!CameOf { counts: many, ..alone.clone() }.is_in_line(), "a node may report any number");
    assert!(!CameOf { is_stopped: true, ..alone }.is_in_line(), "not all of it was examined");
    let observed = [
        result("file:/a", &json!({ "outcome": "out_of_line", "would": { "due": "correct" } })),
        result(
            "file:/b",
            &json!({ "would": { "due": "blocked", "by": { "need": "file:/x", "first": "file:/x", "outcome": "failed" } } }),
        ),
    ];
    assert_eq!(CameOf::of(&observed, Mode::Observe, Status::DriftFound, 5).would, 1);
    assert_eq!(observed_by(&observed).len(), 1);
}
