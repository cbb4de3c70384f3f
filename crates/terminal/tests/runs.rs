//! Runs as text on a terminal, from reports as agents send them.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_terminal::{Shown, run_line, show_kept_run, show_run};
use constans_wire::report::RunReport;
use constans_wire::run::RunSummary;
use serde_json::{Value, json};

const DIGEST: &str = "w1:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef";

fn clause(address: &str, outcome: &str, more: &Value) -> Value {
    let mut clause = json!({
        "address": address, "severity": "medium", "wanted": DIGEST, "verdict": "different", "outcome": outcome,
        "decision": { "due": "nothing" }, "took_us": 4_200,
        "origins": [{ "kit": "kiosk-floor", "version": "1.0.0", "baseline": "kiosk-lockdown" }],
    });
    clause.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    clause
}

fn report(mode: &str, status: &str, clauses: &[Value], more: &Value) -> RunReport {
    let count = |outcome: &str| clauses.iter().filter(|clause| clause["outcome"] == outcome).count();
    let mut report = json!({
        "form": 1, "run": "01a225ea-ea1d-74d7-be2b-fa402acfe882", "machine": "kiosk-auken-1", "agent": "0.1.0",
        "wanted": { "digest": "s2:3572be70aaef0123", "generation": "1.4",
            "releases": [{ "release": "kiosk-floor@1.0.0", "baselines": ["kiosk-lockdown"] }] },
        "mode": mode, "started_by": "interval", "began": "2026-11-23T06:40:00Z", "took_us": 121_000,
        "memory_epoch": "01a225ea-ea1d-74d7-be2b-fa402acfe883", "sequence": 7, "status": status,
        "counts": { "in_line": count("in_line"), "corrected": count("corrected"), "out_of_line": count("out_of_line"),
            "blocked": count("blocked"), "failed": count("failed"), "unsupported": count("unsupported"), "idle": count("idle") },
        "clauses": clauses,
    });
    report.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    serde_json::from_value(report).unwrap()
}

/// The text without colours.
fn plain(text: &str) -> String {
    let mut plain = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('\u{1b}') {
        plain += before;
        rest = after.split_once('m').map_or("", |(_, rest)| rest);
    }
    plain + rest
}

fn shown(report: &RunReport, verbose: bool) -> String {
    plain(&show_run(report, &Shown { verbose, excluded: &[], is_preview: false }))
}

fn drift() -> Value {
    json!({
        "cause": "drift", "drift_window": { "from": "2026-11-23T06:10:00Z", "to": "2026-11-23T06:40:00Z" },
        "differences": [{ "property": "content", "wanted": { "is": "value", "value": 45 }, "found": { "is": "value", "value": 600 } }],
        "text_diff": { "text": "--- actual\n+++ desired\n@@ -1 +1 @@\n-idle = 600\n+idle = 45\n", "cut": false },
    })
}

fn with(base: Value, more: &Value) -> Value {
    let mut base = base;
    base.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    base
}

#[test]
fn a_corrected_drift_says_when_what_and_where_the_old_copy_is() {
    let corrected = with(
        drift(),
        &json!({ "decision": { "due": "correct" }, "kept": [{ "attic": 3, "path": "/etc/kiosk/shell.conf", "digest": DIGEST, "bytes": 14 }] }),
    );
    let reacts = json!({ "verdict": null, "reaction": { "reaction": "restart", "causes": ["file:/etc/kiosk/shell.conf"], "since": "2026-11-23T06:40:01Z", "state": "done" } });
    let clauses = [
        clause("file:/etc/kiosk/shell.conf", "corrected", &corrected),
        clause("service:kiosk-shell", "idle", &reacts),
        clause("package:kiosk-shell", "in_line", &json!({ "verdict": "alike" })),
    ];
    insta::assert_snapshot!(shown(&report("enforce", "drift_corrected", &clauses, &json!({})), false), @"
    enforce
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   drift corrected   3 clauses in 121 ms: 1 corrected, 1 in line, 1 reacts only

    file:/etc/kiosk/shell.conf  medium severity · 4 ms
       corrected · drift: the node changed between 2026-11-23 06:10:00 UTC and 2026-11-23 06:40:00 UTC (within 30 min)
       content  desired 45   actual 600
          --- actual
          +++ desired
          @@ -1 +1 @@
          -idle = 600
          +idle = 45
       the replaced contents of /etc/kiosk/shell.conf are number 3 in the attic of the node: constans-agent attic put-back 3

    service:kiosk-shell  medium severity · 4 ms
       reacts only
       restart: done, triggered by file:/etc/kiosk/shell.conf

    1 clause is in line; -v lists them
    ");
}

#[test]
fn an_observed_run_says_what_enforcing_would_do_and_what_keeps_it() {
    let frozen = json!({ "due": "leave", "why": { "reason": "freeze", "no": 7, "until": "2026-11-23T18:00:00Z", "because": "boarding" } });
    let needs = json!({ "due": "blocked", "by": { "need": "package:voucher-driver", "first": "package:voucher-driver", "outcome": "failed" } });
    let clauses = [
        clause(
            "file:/etc/kiosk/shell.conf",
            "out_of_line",
            &with(
                drift(),
                &json!({ "decision": { "due": "leave", "why": { "reason": "observing" } }, "would": { "due": "correct" } }),
            ),
        ),
        clause(
            "file:/etc/issue",
            "out_of_line",
            &json!({ "cause": "rollout", "newness": { "newness": "new_here" }, "decision": frozen }),
        ),
        clause(
            "file:/etc/voucher.conf",
            "blocked",
            &json!({ "cause": "rollout", "newness": { "newness": "changed" }, "decision": needs }),
        ),
        clause(
            "mount:/srv",
            "unsupported",
            &json!({ "verdict": "unseen", "unsupported": "this agent, version 0.1.0, does not know the kind `mount`: upgrade it" }),
        ),
    ];
    insta::assert_snapshot!(shown(&report("observe", "drift_found", &clauses, &json!({})), false), @"
    observe: nothing is changed
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   drift found   4 clauses in 121 ms: 1 blocked, 1 would be corrected, 1 not corrected, 1 not examined

    file:/etc/kiosk/shell.conf  medium severity · 4 ms
       would be corrected · drift: the node changed between 2026-11-23 06:10:00 UTC and 2026-11-23 06:40:00 UTC (within 30 min)
       content  desired 45   actual 600
          --- actual
          +++ desired
          @@ -1 +1 @@
          -idle = 600
          +idle = 45

    file:/etc/issue  medium severity · 4 ms
       not corrected: frozen by F7 until 2026-11-23 18:00:00 UTC (boarding) · rollout: desired here for the first time

    file:/etc/voucher.conf  medium severity · 4 ms
       blocked: it needs package:voucher-driver, which failed · rollout: the desired state changed

    mount:/srv  medium severity · 4 ms
       not examined: this agent, version 0.1.0, does not know the kind `mount`: upgrade it
    ");
}

#[test]
fn a_failure_has_its_command_its_output_and_a_remedy_and_nothing_of_it_steers_the_terminal() {
    let failure = json!({
        "at": "correct", "message": "apt-get exited with 100", "remedy": "check the package source",
        "command": { "what": "apt-get install kiosk-shell=3.2.4", "exit": 100, "output": "E: \u{1b}]0;owned\u{7}Unable to locate\nsecond line" },
    });
    let missed = json!([{ "cause": "file:/etc/kiosk/shell.conf", "changed_at": "2026-11-23T06:00:00Z", "running_since": "2026-11-22T18:00:00Z" }]);
    let clauses = [
        clause(
            "package:kiosk-shell",
            "failed",
            &json!({ "failure": failure, "decision": { "due": "correct" } }),
        ),
        clause("service:kiosk-shell", "in_line", &json!({ "verdict": "alike", "missed": missed })),
    ];
    let more = json!({ "restart_pending": { "since": "2026-11-23T05:00:00Z", "because": ["linux-image"] } });
    insta::assert_snapshot!(shown(&report("enforce", "failed", &clauses, &more), false), @r"
    enforce
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   failed   2 clauses in 121 ms: 1 failed, 1 in line
    restart pending since 2026-11-23 05:00:00 UTC: linux-image

    package:kiosk-shell  medium severity · 4 ms
       failed while correcting
       apt-get exited with 100
          $ apt-get install kiosk-shell=3.2.4   (exit status 100)
          E: \u{1b}]0;owned\u{7}Unable to locate
          second line
       what to do: check the package source

    service:kiosk-shell  medium severity · 4 ms
       in line
       file:/etc/kiosk/shell.conf was changed at 2026-11-23 06:00:00 UTC, but no reaction of this service to it was declared; the service has run since 2026-11-22 18:00:00 UTC: restart it by hand if it has to load the change
    ");
}

#[test]
fn details_are_shown_on_demand() {
    let details = json!({
        "verdict": "alike", "already_there": true,
        "native": [{ "what": "stat /etc/issue" }, { "what": "dpkg-query -W", "exit": 0 }],
        "not_examined": [{ "property": "owner", "why": "owners cannot be set in a private root without root's rights" }],
        "dropped_needs": ["package:cups"], "stand_in": "no service manager runs here",
    });
    let clauses = [clause("file:/etc/issue", "in_line", &details)];
    insta::assert_snapshot!(shown(&report("observe", "in_line", &clauses, &json!({})), true), @"
    observe: nothing is changed
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   in line   1 clause in 121 ms: 1 in line

    file:/etc/issue  medium severity · 4 ms
       in line, and already was at the first look
          · stat /etc/issue
          $ dpkg-query -W   (exit status 0)
          owner is not examined here: owners cannot be set in a private root without root's rights
          the need package:cups is not part of the desired state of this node
          no service manager runs here
          from kiosk-floor@1.0.0/kiosk-lockdown; desired w1:0123456789ab
    ");
}

#[test]
fn a_partial_and_an_interrupted_run_say_so() {
    let clauses = [clause("file:/etc/issue", "in_line", &json!({ "verdict": "alike" }))];
    let partial = json!({ "partial": true, "part": { "left_out": 18, "known_out_of_line": 2 } });
    insta::assert_snapshot!(shown(&report("enforce", "in_line", &clauses, &partial), false), @"
    enforce
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   in line   1 clause in 121 ms: 1 in line; partial: 18 clauses were left out, 2 of them known to be out of line
    ");
    let interrupted = json!({ "did_not_end": { "reached": 7, "of": 19, "doing": "correcting", "address": "package:kiosk-shell" } });
    insta::assert_snapshot!(shown(&report("enforce", "failed", &[], &interrupted), false), @"
    enforce
    on       kiosk-auken-1, the machine itself
    desired  kiosk-floor@1.0.0 kiosk-lockdown   s2:3572be70aaef
    result   failed   interrupted after 7 of 19 clauses, correcting package:kiosk-shell: the agent was killed or the machine stopped
    ");
}

#[test]
fn a_run_of_earlier_says_which_it_was_who_started_it_and_why() {
    let more =
        json!({ "by": "ops", "reason": "after the storm", "started_by": "operator_on_node", "now": true });
    let repeats = serde_json::from_value(
        json!({ "count": 41, "last": "2026-11-23T17:10:00Z", "learned": "2026-11-23T17:10:01Z" }),
    )
    .unwrap();
    let report = report("enforce", "in_line", &[], &more);
    let shown = plain(&show_kept_run("kiosk-auken-1", &report, Some(&repeats), false));
    insta::assert_snapshot!(shown.lines().take(4).collect::<Vec<_>>().join("\n"), @"
    kiosk-auken-1, run 01a225ea-ea1d-74d7-be2b-fa402acfe882
    began 2026-11-23 06:40:00 UTC, started by a person on the node (ops), grace and change window opened: after the storm, generation 1.4
    found again by 41 later runs, the last at 2026-11-23 17:10:00 UTC
    enforce
    ");
}

#[test]
fn a_list_of_runs_has_a_line_for_a_run_and_for_a_row_of_equal_ones() {
    let summary = |more: &Value| {
        let mut summary = json!({
            "run": null, "began": "2026-11-23T05:00:00Z", "last": "2026-11-23T06:40:00Z", "count": 8, "mode": "enforce",
            "status": "in_line", "counts": null, "state": "s2:3572be70aaef0123", "learned": "2026-11-23T06:40:01Z", "missing": 0,
        });
        summary.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        plain(&run_line(&serde_json::from_value::<RunSummary>(summary).unwrap()))
    };
    let counts = json!({ "in_line": 17, "corrected": 1, "out_of_line": 0, "blocked": 0, "failed": 1, "unsupported": 0, "idle": 0 });
    let lines = [
        summary(&json!({})),
        summary(
            &json!({ "run": "01a225ea-ea1d-74d7-be2b-fa402acfe882", "status": "failed", "counts": counts }),
        ),
        summary(
            &json!({ "run": "01a225ea-ea1d-74d7-be2b-fa402acfe882", "count": 1, "status": "failed", "counts": counts, "partial": true }),
        ),
        summary(
            &json!({ "run": "01a225ea-ea1d-74d7-be2b-fa402acfe882", "count": 1, "status": "failed", "mode": "observe",
            "did_not_end": { "reached": 7, "of": 19 } }),
        ),
        summary(&json!({ "missing": 2 })),
    ];
    insta::assert_snapshot!(lines.join("\n"), @"
    2026-11-23 06:40:00 UTC  in line             enforce  8 runs since 2026-11-23 05:00:00 UTC, uneventful
    2026-11-23 06:40:00 UTC  failed              enforce  1 failed, 1 corrected, 17 in line  8 runs since 2026-11-23 05:00:00 UTC  01a225ea-ea1d-74d7-be2b-fa402acfe882
    2026-11-23 06:40:00 UTC  failed              enforce  1 failed, 1 corrected, 17 in line, partial  01a225ea-ea1d-74d7-be2b-fa402acfe882
    2026-11-23 06:40:00 UTC  failed              observe  interrupted after 7 of 19 clauses  01a225ea-ea1d-74d7-be2b-fa402acfe882
    2026-11-23 06:40:00 UTC  in line             enforce  8 runs since 2026-11-23 05:00:00 UTC, uneventful  2 runs before it never reported
    ");
}
