//! Sweeps as text.

use constans_core::run::Mode;
use constans_terminal::{count, duration, harmless, style, styled, time};
use constans_wire::sweep::{
    NamedNodes, PlannedNode, Sweep, SweepComparison, SweepFailure, SweepPlan, SweepStatus, SweptNode,
    SweptState,
};
use jiff::Timestamp;
use std::fmt::Write as _;

/// This many nodes are listed unless all are asked for.
const LISTED: usize = 40;

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

fn clauses(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "clause", "clauses")
}

/// Returns a sweep in one line.
pub fn line(sweep: &Sweep) -> String {
    let counts = &sweep.counts;
    let failed = if counts.failed > 0 {
        styled(style::BAD, format!(", {} failed", counts.failed))
    } else {
        String::new()
    };
    format!(
        "S{:<5} {}  {:<8} {} of {} done{failed}  {}  by {}: {}",
        sweep.no,
        time(sweep.asked_at),
        sweep.status.words(),
        counts.done,
        counts.nodes,
        harmless(&sweep.what),
        harmless(&sweep.who),
        harmless(&sweep.because),
    )
}

/// Returns how far a sweep is, in one line that is written over.
pub fn progress(sweep: &Sweep) -> String {
    let counts = &sweep.counts;
    let mut parts = vec![format!("S{}: {} of {} done", sweep.no, counts.done, counts.nodes)];
    for (number, word) in [
        (counts.in_line, "in line"),
        (counts.failed, "failed"),
        (counts.begun, "running"),
        (counts.refused, "refused"),
        (counts.pending + counts.offered - counts.silent, "not begun"),
        (counts.silent, "silent"),
    ] {
        if number > 0 {
            parts.push(format!("{number} {word}"));
        }
    }
    let secs = sweep.now.duration_since(sweep.asked_at).as_secs();
    let left = sweep.ends_at.duration_since(sweep.now).as_secs().max(0);
    parts.push(format!("{} so far", span(secs)));
    parts.extend(about_left(sweep));
    if counts.pending + counts.offered > 0 {
        parts.push(format!("ends in {} for those not heard", span(left)));
    }
    parts.join(" · ")
}

fn span(secs: i64) -> String {
    constans_core::sentence::span_words(secs)
}

/// Returns what a sweep is, and its numbers.
pub fn head(sweep: &Sweep) -> String {
    let counts = &sweep.counts;
    let mut text = format!(
        "{}   {} on {}\n",
        styled(style::STRONG, format!("S{}", sweep.no)),
        harmless(&sweep.what),
        nodes(counts.nodes)
    );
    let _ = writeln!(
        text,
        "       asked by {} at {}: \"{}\"; {}",
        harmless(&sweep.who),
        time(sweep.asked_at),
        harmless(&sweep.because),
        harmless(&sweep.which)
    );
    if let Some(after) = sweep.after {
        let _ = writeln!(text, "       corrects exactly what S{after} found");
    }
    let status = match (&sweep.stopped, sweep.status) {
        (Some(stopped), _) => {
            format!("stopped by {} at {}", harmless(&stopped.who), time(stopped.at))
        }
        (None, SweepStatus::Running) if sweep.begins_at > sweep.now => {
            format!("begins at {}", time(sweep.begins_at))
        }
        (None, SweepStatus::Running) => format!("running, for those not heard until {}", time(sweep.ends_at)),
        (None, status) => status.words().to_owned(),
    };
    let mut parts = vec![format!("{status}: {} of {} done", counts.done, counts.nodes)];
    for (number, word) in [
        (counts.failed, "failed"),
        (counts.begun, "running"),
        (counts.pending + counts.offered - counts.silent, "not received yet or not begun"),
        (counts.silent, "silent"),
        (counts.refused, "refused"),
        (counts.not_reached, "not reached"),
    ] {
        if number > 0 {
            parts.push(format!("{number} {word}"));
        }
    }
    let _ = writeln!(text, "       {}", parts.join(", "));
    let _ = writeln!(
        text,
        "       in line, examined by it: {} of {}; {} were before",
        counts.in_line, counts.nodes, counts.in_line_before
    );
    match sweep.order.mode {
        Mode::Observe if counts.would > 0 => {
            let _ = writeln!(text, "       {} would be corrected", clauses(counts.would));
        }
        Mode::Observe => {}
        Mode::Enforce => {
            let preview = if sweep.after.is_some() {
                format!(" of {} that were observed", counts.would)
            } else {
                String::new()
            };
            let _ = writeln!(text, "       corrected: {}{preview}", clauses(counts.corrected_clauses));
        }
    }
    if counts.changed_since > 0 {
        let _ = writeln!(text, "       left, changed since observed: {}", clauses(counts.changed_since));
    }
    text
}

/// Returns how long the runs under way still take, by how long the last ones of their nodes took.
fn about_left(sweep: &Sweep) -> Option<String> {
    let left = sweep.expected_end?.duration_since(sweep.now).as_secs();
    Some(match left {
        1.. => format!("about {} more, as the last runs took", span(left)),
        _ => "longer than the last runs took".to_owned(),
    })
}

/// Returns a sweep with its nodes and what failed.
pub fn whole(
    sweep: &Sweep,
    all: &[SweptNode],
    failures: &[SweepFailure],
    lists_all: bool,
    now: Timestamp,
) -> String {
    let mut text = head(sweep);
    if !failures.is_empty() {
        text.push_str("\nWhat failed, by clause\n");
        for failure in failures {
            let _ = writeln!(
                text,
                "  {}  {}: {}",
                styled(style::BAD, &failure.failed.address),
                nodes(failure.nodes),
                harmless(&failure.failed.message)
            );
            let more = failure.nodes.saturating_sub(failure.names.len() as u64);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let _ = writeln!(text, "      {}{more}", harmless(&failure.names.join(", ")));
        }
    }
    if all.is_empty() {
        return text;
    }
    text.push('\n');
    let listed = if lists_all { all } else { &all[..all.len().min(LISTED)] };
    let width = listed.iter().map(|node| node.name.chars().count()).max().unwrap_or(0);
    for node in listed {
        let of = if node.of > 0 { format!("{} of {}", node.reached, node.of) } else { String::new() };
        let took = node.took_ms.map(|took| duration(took * 1_000)).unwrap_or_default();
        let last = node.last_took_ms.map(|last| format!("; its last run took {}", duration(last * 1_000)));
        let words = harmless(&node.words.write(now)) + &last.unwrap_or_default();
        let words = match node.state {
            SweptState::Done if node.is_in_line == Some(true) => styled(style::WELL, words),
            SweptState::Done if node.status == Some(constans_core::run::Status::Failed) => {
                styled(style::BAD, words)
            }
            SweptState::Done | SweptState::NotReached | SweptState::Refused => {
                styled(style::ATTENTION, words)
            }
            SweptState::Pending | SweptState::Offered | SweptState::Begun => styled(style::MUTED, words),
        };
        let _ = writeln!(text, "  {:<width$}  {of:>9}  {took:>8}  {words}", harmless(&node.name));
    }
    if let more @ 1.. = all.len() - listed.len() {
        let _ = writeln!(text, "  and {more} more: --all lists them");
    }
    text.push_str(&next(sweep));
    text
}

/// Returns what to do next.
fn next(sweep: &Sweep) -> String {
    let no = sweep.no;
    match sweep.status {
        SweepStatus::Running => format!("\nNext: constans sweep show S{no} --follow\n"),
        _ if sweep.order.mode == Mode::Observe && sweep.counts.would > 0 && sweep.enforced_by.is_none() => {
            format!("\nNext: constans sweep enforce --after S{no} --because REASON\n")
        }
        _ => String::new(),
    }
}

/// Returns what a sweep would do.
pub fn plan(plan: &SweepPlan) -> String {
    let mut text = format!("{} on {}", harmless(&plan.what), nodes(plan.asked));
    if plan.asked < plan.nodes {
        let _ = write!(text, " of {}", plan.nodes);
    }
    let when = match plan.asked - plan.can_be_woken {
        _ if plan.asked == 0 => "so nothing is begun".to_owned(),
        0 => "at once".to_owned(),
        others if others == plan.asked => "with the next check-ins".to_owned(),
        others => format!("{} at once, {others} with the next check-ins", plan.can_be_woken),
    };
    let silent = match plan.silent {
        0 => String::new(),
        silent => format!("; {silent} silent"),
    };
    let _ = writeln!(text, ", {when}{silent}");
    if plan.correct > 0 {
        let _ = writeln!(
            text,
            "  by what is known, {} would be corrected on {}",
            clauses(plan.correct),
            nodes(plan.correct_on)
        );
    }
    for (why, on) in &plan.left_on {
        let _ = writeln!(text, "  {}", left_words(why, *on, plan.opens));
    }
    let told: Vec<&PlannedNode> = plan.each.iter().filter(|node| is_told(node)).collect();
    let width = told.iter().map(|node| node.name.chars().count()).max().unwrap_or(0);
    for node in told.iter().take(LISTED) {
        let _ = writeln!(text, "  {:<width$}  {}", harmless(&node.name), planned(node));
    }
    if let more @ 1.. = told.len().saturating_sub(LISTED) {
        let _ = writeln!(text, "  and {more} more");
    }
    text
}

fn is_told(node: &PlannedNode) -> bool {
    let would = node.preview.as_ref();
    node.refused.is_some()
        || node.opens.is_some()
        || would.is_none()
        || would.is_some_and(|would| would.correct + would.blocked > 0 || !would.leave.is_empty())
}

fn planned(node: &PlannedNode) -> String {
    if let Some(refused) = &node.refused {
        let from = node.mode_from.as_ref().map(|from| format!(" ({})", harmless(from))).unwrap_or_default();
        return styled(style::ATTENTION, format!("left out: {}{from}", harmless(&refused.write_dated())));
    }
    let mut parts = Vec::new();
    match &node.preview {
        None => parts.push("not known: it has not run yet, or its last run is not kept".to_owned()),
        Some(would) => {
            if would.correct > 0 {
                parts.push(format!("{} would be corrected", clauses(would.correct)));
            }
            if would.blocked > 0 {
                parts.push(format!("{} blocked", would.blocked));
            }
            parts.extend(would.leave.iter().map(|(why, count)| format!("{count} left: {}", why_words(why))));
        }
    }
    if let Some(opens) = node.opens {
        parts.push(format!(
            "its change window opens at {}; --now does not wait, --when-open begins then",
            time(opens)
        ));
    }
    let as_of = node.as_of.map(|at| format!(", as of {}", time(at))).unwrap_or_default();
    format!("{}{as_of}", parts.join(", "))
}

fn left_words(why: &str, on: u64, opens: Option<Timestamp>) -> String {
    match (why, opens) {
        ("window", Some(opens)) => {
            format!(
                "on {} the change window is closed, the last opens at {}; --now does not wait, --when-open begins then",
                nodes(on),
                time(opens)
            )
        }
        _ => format!("on {} something is left: {}", nodes(on), why_words(why)),
    }
}

fn why_words(why: &str) -> String {
    match why {
        "on_drift" => "on_drift says report; --correct-once corrects named clauses".to_owned(),
        "on_rollout" => "on_rollout says wait; --correct-once corrects named clauses".to_owned(),
        "grace" => "grace; --now does not wait".to_owned(),
        "window" => "the change window is closed; --now does not wait".to_owned(),
        "freeze" => "frozen".to_owned(),
        "only_a_person" => "needs a person".to_owned(),
        other => other.replace('_', " "),
    }
}

/// Returns two sweeps side by side.
pub fn compared(compared: &SweepComparison) -> String {
    let (before, after) = (&compared.before, &compared.after);
    let mut text = String::new();
    for sweep in [before, after] {
        let _ = writeln!(text, "{}", line(sweep));
    }
    let _ = writeln!(text, "\n{} reported in both", nodes(compared.both));
    let mut named = |words: &str, named: &NamedNodes| {
        if named.nodes > 0 {
            let more = named.nodes.saturating_sub(named.names.len() as u64);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let _ = writeln!(text, "  {words}: {}{more}", harmless(&named.names.join(", ")));
        }
    };
    named("in line now", &compared.in_line_now);
    named("out of line now", &compared.out_of_line_now);
    named("out of line still", &compared.out_of_line_still);
    for (words, failures) in
        [("fails no more", &compared.failures_over), ("fails now", &compared.failures_now)]
    {
        for failure in failures {
            let _ = writeln!(
                text,
                "  {words}: {} on {}: {}",
                failure.failed.address,
                nodes(failure.nodes),
                harmless(&failure.failed.message)
            );
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn sweep(counts: &Value, over: &Value) -> Sweep {
        let zero = json!({
            "nodes": 41, "pending": 0, "silent": 0, "offered": 0, "begun": 0, "done": 0, "refused": 0, "not_reached": 0, "in_line": 0, "in_line_before": 24,
            "failed": 0, "corrected": 0, "left": 0, "would": 0, "corrected_clauses": 0, "changed_since": 0,
        });
        let counts: constans_wire::sweep::SweepCounts = answered(zero, counts);
        let whole = json!({
            "no": 118, "what": "Enforce baseline kiosk-lockdown", "order": { "mode": "enforce" }, "which": "labels.role == \"kiosk\"", "who": "ilse.maren",
            "because": "install the shell that was missing", "asked_at": "2026-11-23T07:42:10Z", "begins_at": "2026-11-23T07:42:10Z", "ends_at": "2026-11-23T08:42:10Z", "status": "running",
            "counts": counts, "now": "2026-11-23T07:42:48Z",
        });
        answered(whole, over)
    }

    fn node(over: &Value) -> SweptNode {
        let whole = json!({
            "name": "kiosk-auken-1", "state": "done", "words": [{ "text": "in line" }], "status": "in_line", "is_in_line": true, "reached": 19, "of": 19,
            "would": 0, "took_ms": 412,
        });
        answered(whole, over)
    }

    #[test]
    fn a_sweep_says_what_failed_first_what_is_waited_for_and_what_is_in_line() {
        let running = sweep(
            &json!({ "done": 32, "begun": 5, "pending": 4, "silent": 1, "in_line": 29, "failed": 3, "would": 20, "corrected_clauses": 17, "changed_since": 1 }),
            &json!({ "after": 117 }),
        );
        let failure: SweepFailure = serde_json::from_value(json!({
            "address": "package:kiosk-shell", "message": "no package source offers 3.2.4", "nodes": 3, "names": ["kiosk-brisk-1"],
        }))
        .unwrap();
        let failed = json!({
            "name": "kiosk-brisk-1", "words": [{ "text": "failed: package:kiosk-shell; 2 blocked" }], "status": "failed", "is_in_line": false, "reached": 17,
            "took_ms": 46_000,
        });
        let pending = json!({
            "name": "kiosk-dunmoy-2", "state": "pending", "words": [{ "text": "not received yet: next check-in " }, { "due": "2026-11-23T07:46:48Z" }],
            "status": null, "is_in_line": null, "of": 0, "took_ms": null,
        });
        let nodes = [node(&failed), node(&pending), node(&json!({}))];
        let now = "2026-11-23T07:42:48Z".parse().unwrap();
        insta::assert_snapshot!(anstream::adapter::strip_str(&whole(&running, &nodes, &[failure], false, now)), @r#"
        S118   Enforce baseline kiosk-lockdown on 41 nodes
               asked by ilse.maren at 2026-11-23 07:42:10 UTC: "install the shell that was missing"; labels.role == "kiosk"
               corrects exactly what S117 found
               running, for those not heard until 2026-11-23 08:42:10 UTC: 32 of 41 done, 3 failed, 5 running, 3 not received yet or not begun, 1 silent
               in line, examined by it: 29 of 41; 24 were before
               corrected: 17 clauses of 20 that were observed
               left, changed since observed: 1 clause

        What failed, by clause
          package:kiosk-shell  3 nodes: no package source offers 3.2.4
              kiosk-brisk-1 and 2 more

          kiosk-brisk-1    17 of 19    46.0 s  failed: package:kiosk-shell; 2 blocked
          kiosk-dunmoy-2                       not received yet: next check-in in 4 min
          kiosk-auken-1    19 of 19    412 ms  in line

        Next: constans sweep show S118 --follow
        "#);
        insta::assert_snapshot!(progress(&running), @"S118: 32 of 41 done · 29 in line · 3 failed · 5 running · 3 not begun · 1 silent · 38 s so far · ends in 59 min for those not heard");
    }

    #[test]
    fn what_it_would_do_is_said_before_with_its_age_and_what_is_against_it() {
        let whole: SweepPlan = serde_json::from_value(json!({
            "what": "Enforce all clauses", "nodes": 41, "asked": 40, "can_be_woken": 36, "silent": 1, "correct": 3, "correct_on": 2,
            "left_on": { "window": 36, "on_drift": 1 }, "opens": "2026-11-28T22:00:00Z",
            "each": [
                { "name": "gate-tern-1", "refused": [{ "text": "mode is observe" }], "mode_from": "the group gates" },
                { "name": "kiosk-auken-1", "preview": { "correct": 2, "blocked": 1, "leave": { "on_drift": 1 } }, "as_of": "2026-11-23T07:40:00Z" },
                { "name": "kiosk-auken-2", "preview": { "correct": 0, "blocked": 0 }, "opens": "2026-11-28T22:00:00Z" },
                { "name": "kiosk-auken-3" },
                { "name": "kiosk-auken-4", "preview": { "correct": 0, "blocked": 0 } },
            ],
        }))
        .unwrap();
        insta::assert_snapshot!(anstream::adapter::strip_str(&plan(&whole)), @"
        Enforce all clauses on 40 nodes of 41, 36 at once, 4 with the next check-ins; 1 silent
          by what is known, 3 clauses would be corrected on 2 nodes
          on 1 node something is left: on_drift says report; --correct-once corrects named clauses
          on 36 nodes the change window is closed, the last opens at 2026-11-28 22:00:00 UTC; --now does not wait, --when-open begins then
          gate-tern-1    left out: mode is observe (the group gates)
          kiosk-auken-1  2 clauses would be corrected, 1 blocked, 1 left: on_drift says report; --correct-once corrects named clauses, as of 2026-11-23 07:40:00 UTC
          kiosk-auken-2  its change window opens at 2026-11-28 22:00:00 UTC; --now does not wait, --when-open begins then
          kiosk-auken-3  not known: it has not run yet, or its last run is not kept
        ");
        let none = SweepPlan {
            asked: 0,
            can_be_woken: 0,
            silent: 0,
            correct: 0,
            each: Vec::new(),
            left_on: [].into(),
            ..whole
        };
        insta::assert_snapshot!(plan(&none), @"Enforce all clauses on 0 nodes of 41, so nothing is begun");
    }
}
