//! The impact of a change as text.

use crate::words::{count, harmless, time};
use constans_core::change::{AppliedWhen, ClauseImpact, Impact, WhenApplied};

/// On how many nodes something happens to a clause.
type NodesOf = fn(&ClauseImpact) -> u64;

/// This many clauses of each sort are listed.
const LISTED: usize = 20;

/// Returns the impact of a change in lines: what it takes from nodes first, then what changes and what is new, the services that
/// restart, and what prevents it.
pub fn show_impact(impact: &Impact) -> Vec<String> {
    let mut lines = vec![format!("affects {}", nodes(impact.nodes))];
    let sorts: [(&str, NodesOf); 3] = [
        ("takes from", |clause| clause.taken),
        ("changes on", |clause| clause.changed),
        ("is new on", |clause| clause.new),
    ];
    for (verb, of) in sorts {
        let all: Vec<&ClauseImpact> = impact.clauses.iter().filter(|clause| of(clause) > 0).collect();
        for clause in all.iter().take(LISTED) {
            let named = clause.examples.len() as u64;
            let more = of(clause).saturating_sub(named);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let names: Vec<String> = clause.examples.iter().map(|name| harmless(name)).collect();
            lines.push(format!(
                "  {:<22}{}  ({}{more})",
                format!("{verb} {}", nodes(of(clause))),
                harmless(&clause.address),
                names.join(", ")
            ));
        }
        if all.len() > LISTED {
            lines.push(format!("  {verb} nodes: {} more clauses", all.len() - LISTED));
        }
    }
    if impact.clauses_left_out > 0 {
        lines.push(format!("  {} more clauses are not listed", impact.clauses_left_out));
    }
    if impact.settings > 0 {
        lines.push(format!("  other settings of the agent on {}", nodes(impact.settings)));
    }
    lines.extend(
        impact
            .restarts
            .iter()
            .map(|restart| format!("  {} restarts on {}", harmless(&restart.address), nodes(restart.nodes))),
    );
    lines.extend(impact.applied.iter().map(|applied| format!("  {}", applied_words(applied))));
    for one in &impact.restarting {
        let when = match (&one.at, &one.left) {
            (_, Some(why)) => format!("it is left: {}", harmless(why)),
            (Some(at), None) => format!("at {}", time(*at)),
            (None, None) => "with its next run".to_owned(),
        };
        let because: Vec<String> = one.because.iter().map(|cause| harmless(cause)).collect();
        lines.push(format!(
            "  {} has a restart pending since {} ({}): {when}",
            harmless(&one.node),
            time(one.since),
            because.join(", ")
        ));
    }
    lines.extend(impact.not_served.iter().map(|baseline| {
        format!("  {} is assigned, but its stage serves no release of the kit", harmless(baseline))
    }));
    lines
}

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

/// Says when nodes apply what they are newly given, and services restart with that.
fn applied_words(applied: &AppliedWhen) -> String {
    let on = nodes(applied.nodes);
    match applied.when {
        WhenApplied::NextRun => {
            let last = applied.last_at.map(|at| format!(", the last by {}", time(at))).unwrap_or_default();
            let not_expected = match applied.not_expected {
                0 => String::new(),
                silent => format!("; {} not on time", nodes(silent)),
            };
            format!("applied on {on} with the next run{last}{not_expected}")
        }
        WhenApplied::WindowOpens { at } => {
            format!("applied on {on} when the change window opens, {}", time(at))
        }
        WhenApplied::OnOrder => format!("applied on {on} when an operator does it there: on_rollout is wait"),
        WhenApplied::Never => format!("not applied on {on}: mode is observe"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::change::{Restart, RestartingNode};
    use jiff::Timestamp;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(hour * 3_600).expect("a time")
    }

    #[test]
    fn what_is_taken_comes_first_and_examples_are_named() {
        let clause = |address: &str, new, changed, taken, examples: &[&str]| ClauseImpact {
            address: address.into(),
            new,
            changed,
            taken,
            examples: examples.iter().map(|&name| name.to_owned()).collect(),
        };
        let applied = |nodes, when, last_at, not_expected| AppliedWhen { nodes, when, last_at, not_expected };
        let impact = Impact {
            nodes: 9,
            settings: 1,
            takes: 5,
            takes_from: 5,
            clauses: vec![
                clause("file:/etc/issue", 0, 0, 5, &["kiosk-auken-1", "kiosk-auken-2", "kiosk-brisk-1"]),
                clause("file:/etc/kiosk/shell.conf", 1, 2, 0, &["kiosk-tern-1"]),
            ],
            restarts: vec![Restart { address: "service:kiosk-shell".into(), nodes: 2 }],
            not_served: vec!["quay-base/upkeep".into()],
            applied: vec![
                applied(2, WhenApplied::NextRun, Some(at(2)), 1),
                applied(6, WhenApplied::WindowOpens { at: at(20) }, None, 0),
                applied(1, WhenApplied::Never, None, 0),
            ],
            restarting: vec![RestartingNode {
                node: "gate-auken-1".into(),
                since: at(1),
                because: vec!["linux-image".into()],
                at: Some(at(20)),
                left: None,
            }],
            ..Impact::default()
        };
        insta::assert_snapshot!(show_impact(&impact).join("\n"), @"
        affects 9 nodes
          takes from 5 nodes    file:/etc/issue  (kiosk-auken-1, kiosk-auken-2, kiosk-brisk-1 and 2 more)
          changes on 2 nodes    file:/etc/kiosk/shell.conf  (kiosk-tern-1 and 1 more)
          is new on 1 node      file:/etc/kiosk/shell.conf  (kiosk-tern-1)
          other settings of the agent on 1 node
          service:kiosk-shell restarts on 2 nodes
          applied on 2 nodes with the next run, the last by 1970-01-01 02:00:00 UTC; 1 node not on time
          applied on 6 nodes when the change window opens, 1970-01-01 20:00:00 UTC
          not applied on 1 node: mode is observe
          gate-auken-1 has a restart pending since 1970-01-01 01:00:00 UTC (linux-image): at 1970-01-01 20:00:00 UTC
          quay-base/upkeep is assigned, but its stage serves no release of the kit
        ");
    }
}
