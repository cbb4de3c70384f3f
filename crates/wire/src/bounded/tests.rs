use super::*;
use crate::report::{FORM, StartedBy, Wanted};
use constans_core::address::ClauseAddress;
use constans_core::digest::of_contents;
use constans_core::kit::Severity;
use constans_core::run::{
    Counts, Decision, DriftWindow, Mode, NotSearched, RelatedKind, RelatedRecord, Status,
};
use jiff::Timestamp;
use std::collections::BTreeSet;
use uuid::Uuid;

fn clause(name: &str, outcome: Outcome) -> ClauseResult {
    ClauseResult {
        address: ClauseAddress::parse(&format!("file:/etc/{name}")).unwrap(),
        severity: Severity::Medium,
        origins: Vec::new(),
        satisfies: BTreeSet::new(),
        topics: BTreeSet::new(),
        wanted: of_contents(b"w"),
        found: None,
        verdict: None,
        cause: None,
        also_drifted: false,
        newness: None,
        drill: None,
        drift_window: None,
        related: None,
        already_there: false,
        changed_by: None,
        decision: Decision::Nothing,
        would: None,
        outcome,
        differences: Vec::new(),
        still_different: Vec::new(),
        text_diff: None,
        text_diff_refused: None,
        not_examined: Vec::new(),
        packages: Vec::new(),
        kept: Vec::new(),
        unsupported: None,
        failure: None,
        reaction: None,
        native: Vec::new(),
        stand_in: None,
        read_at: None,
        missed: Vec::new(),
        dropped_needs: Vec::new(),
        took_us: 1,
    }
}

fn report(clauses: Vec<ClauseResult>) -> RunReport {
    RunReport {
        form: FORM,
        run: Uuid::nil(),
        machine: "kiosk-auken-1".into(),
        root: None,
        agent: "0.1.0".into(),
        wanted: Wanted { digest: of_contents(b"state"), generation: None, releases: Vec::new() },
        mode: Mode::Enforce,
        started_by: StartedBy::Interval,
        reason: None,
        sweep: None,
        now: false,
        partial: false,
        part: None,
        by: None,
        began: Timestamp::UNIX_EPOCH,
        took_us: 1,
        memory_epoch: Uuid::nil(),
        sequence: 1,
        status: Status::InLine,
        counts: Counts::default(),
        known_by_metadata: 0,
        clauses,
        due: Vec::new(),
        package_preview: None,
        restart_pending: None,
        did_not_end: None,
        left_out: None,
    }
}

fn step(output: &str) -> NativeStep {
    NativeStep { what: "apt-get".into(), exit: Some(0), output: output.into() }
}

#[test]
fn texts_are_cut_at_a_character_and_taken_off_what_is_left() {
    let (mut first, mut second, mut left) = ("für immer".to_owned(), "auken".to_owned(), 2);
    assert_eq!((cut(&mut first, &mut left, "(cut)"), first.as_str(), left), (true, "f", 1));
    assert_eq!((cut(&mut second, &mut left, ""), second.as_str(), left), (true, "a", 0));
    assert!(!cut(&mut String::new(), &mut left, ""));
}

#[test]
fn what_is_within_the_bounds_stays_as_it_is() {
    let mut small = clause("issue", Outcome::Corrected);
    small.differences = vec![Difference {
        property: "permissions".into(),
        wanted: Side::value("0644"),
        found: Side::value("0600"),
    }];
    small.native = vec![step("done\n")];
    let report = report(vec![small]);
    assert_eq!(report.clone().bounded(), report);
}

#[test]
fn differences_steps_and_values_are_bounded_and_what_is_left_out_is_said() {
    let mut large = clause("issue", Outcome::Failed);
    let value = |bytes: usize| Side::value("x".repeat(bytes));
    large.differences = (0..60)
        .map(|at| Difference { property: format!("line {at}"), wanted: value(1), found: value(4_000) })
        .collect();
    large.still_different = vec![Difference {
        property: "members".into(),
        wanted: Side::Absent,
        found: Side::value(vec!["ops"; 1_000]),
    }];
    large.native = vec![step(&"y".repeat(10_000))];
    let bounded = report(vec![large]).bounded();
    let left_out = bounded.left_out.unwrap();
    assert_eq!((left_out.entries, left_out.cut, left_out.clauses), (10, 50 + 1 + 1, 0));
    assert_eq!(
        left_out.words(),
        "left out of this report: 10 differences, steps or packages of clauses, 52 texts that were cut"
    );
    assert!(size_of(&bounded) < 90_000, "{}", size_of(&bounded));
    assert!(bounded.clone().bounded() == bounded, "the server, which bounds it again, finds nothing to cut");
}

#[test]
fn of_a_report_that_is_too_large_clauses_in_line_go_first_and_others_only_if_they_must() {
    let long =
        |name: &str, outcome| ClauseResult { stand_in: Some("z".repeat(MAX_VALUE)), ..clause(name, outcome) };
    let quiet = (0..6_000).map(|at| long(&format!("quiet-{at}"), Outcome::InLine));
    let drifted = (0..500).map(|at| long(&format!("drifted-{at}"), Outcome::Corrected));
    let bounded = report(quiet.clone().chain(drifted).collect()).bounded();
    assert!(size_of(&bounded) <= MAX_REPORT);
    assert_eq!(bounded.clauses.iter().filter(|clause| clause.outcome == Outcome::Corrected).count(), 500);
    assert_eq!(bounded.left_out.unwrap().clauses as usize, 6_500 - bounded.clauses.len());
    let failed = (0..6_000).map(|at| long(&format!("failed-{at}"), Outcome::Failed));
    let bounded = report(quiet.chain(failed).collect()).bounded();
    assert!(
        size_of(&bounded) <= MAX_REPORT
            && bounded.clauses.iter().all(|clause| clause.outcome == Outcome::Failed)
    );
}

#[test]
fn related_records_are_bounded_in_number_and_length_and_so_is_what_could_not_be_searched() {
    let at = |second: i64| Timestamp::from_second(1_795_600_000 + second).unwrap();
    let record = |second| RelatedRecord {
        at: at(second),
        until: None,
        kind: RelatedKind::Sudo,
        account: Some("o".repeat(MAX_VALUE * 2)),
        text: "x".repeat(MAX_VALUE * 2),
        source: "the journal".into(),
    };
    let related = RelatedRecords {
        window: DriftWindow { from: at(0), to: at(100) },
        records: (0..60).map(record).collect(),
        left_out: 0,
        not_searched: vec![NotSearched { source: "y".repeat(MAX_VALUE * 2), why: String::new() }; 60],
    };
    let mut report = report(vec![clause("issue", Outcome::OutOfLine)]);
    report.clauses[0].related = Some(Box::new(related));
    let bounded = report.bounded();
    let related = bounded.clauses[0].related.as_ref().unwrap();
    assert_eq!((related.records.len(), related.not_searched.len()), (MAX_RELATED, MAX_RELATED));
    assert!(related.records.iter().all(|record| record.text.len() <= MAX_VALUE));
    assert!(related.records[0].account.as_ref().unwrap().len() <= MAX_VALUE);
    assert!(related.not_searched[0].source.len() <= MAX_VALUE);
    assert_eq!(bounded.left_out.unwrap().entries, 80);
}
