//! Rollouts as text.

use constans_core::rollout::{RolloutPlan, WaveFigures};
use constans_core::sentence::span_words;
use constans_terminal::{count, harmless, style, styled, time};
use constans_wire::rollout::{
    BadWithin, PlannedWave, Rollout, RolloutBegun, RolloutNode, RolloutNodeState, RolloutStatus,
    RolloutSummary, RolloutWave,
};
use std::fmt::Write as _;

/// This many nodes are listed unless all are asked for.
const LISTED: usize = 40;

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

/// Returns the waves that a rollout would have.
pub fn planned(no: i64, of: &RolloutPlan, begun: &RolloutBegun) -> String {
    let mut text = format!("C{no} in {}\n", harmless(&of.words()));
    for (at, PlannedWave { percent, nodes: number, names }) in begun.waves.iter().enumerate() {
        let more = number.saturating_sub(names.len() as u64);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let names = harmless(&names.join(", "));
        let _ = writeln!(text, "  wave {}  {percent:>3} %  {:<10} {names}{more}", at + 1, nodes(*number));
    }
    text
}

/// Returns a rollout in one line.
pub fn line(rollout: &RolloutSummary) -> String {
    format!(
        "C{:<5} {}  {}  wave {} of {}  {}  ({})",
        rollout.no,
        time(rollout.began_at),
        status(rollout.status),
        rollout.reached,
        rollout.plan.waves.len(),
        harmless(&rollout.what),
        harmless(&rollout.who),
    )
}

fn status(status: RolloutStatus) -> String {
    let word = format!("{:<11}", status.words());
    if status == RolloutStatus::Halted { styled(style::BAD, word) } else { word }
}

/// Returns how far a rollout is, in one line that is written over.
pub fn progress(rollout: &Rollout) -> String {
    let of = rollout.waves.len();
    let reached = rollout.rollout.reached;
    match rollout.waves.iter().find(|wave| wave.wave == reached) {
        None => format!("C{}: wave 1 of {of} is being prepared", rollout.rollout.no),
        Some(wave) => format!("C{}: wave {reached} of {of} · {}", rollout.rollout.no, how(rollout, wave)),
    }
}

/// Returns how a wave is, in words.
fn how(rollout: &Rollout, wave: &RolloutWave) -> String {
    let WaveFigures { nodes: number, silent, received, finished, untried, .. } = wave.figures;
    if wave.handed_out_at.is_none() {
        return format!("{}, to come", nodes(number));
    }
    let mut parts = vec![format!("{finished} of {} finished a full run", nodes(number))];
    let bad = wave.figures.bad();
    if bad > 0 {
        parts.push(styled(style::BAD, wave.figures.bad_words()));
    }
    for (number, word) in [
        (untried, "untried, since they observe"),
        (
            received.saturating_sub(finished + wave.figures.not_heard + wave.figures.unusable),
            "received it and run",
        ),
        (number.saturating_sub(received + silent), "expected to check in"),
        (silent, "silent, get it on return"),
    ] {
        if number > 0 {
            parts.push(format!("{number} {word}"));
        }
    }
    let is_last_handed_out = wave.wave == rollout.rollout.reached;
    if let Some(until) =
        wave.settles_until.filter(|_| is_last_handed_out && rollout.rollout.status == RolloutStatus::Going)
    {
        let left = until.duration_since(rollout.now).as_secs();
        parts.push(if left > 0 {
            format!("settles, {} left", span_words(left))
        } else {
            "settled".to_owned()
        });
    }
    parts.join(" · ")
}

/// Returns what a rollout is, and its waves.
pub fn head(rollout: &Rollout) -> String {
    let summary = &rollout.rollout;
    let mut text =
        format!("{}   {}\n", styled(style::STRONG, format!("C{}", summary.no)), harmless(&summary.what));
    let because =
        summary.because.as_ref().map(|because| format!(": \"{}\"", harmless(because))).unwrap_or_default();
    let approved =
        summary.approved_by.as_ref().map(|by| format!(", approved by {}", harmless(by))).unwrap_or_default();
    let _ =
        writeln!(text, "       {} at {}{because}{approved}", harmless(&summary.who), time(summary.began_at));
    let _ = writeln!(text, "       {}", harmless(&summary.plan.words()));
    let ended = summary.ended_at.zip(summary.ended_by.as_ref());
    let _ = match (&summary.halted, ended) {
        (_, Some((at, by))) => {
            writeln!(text, "       {} at {} by {}", summary.status.words(), time(at), harmless(by))
        }
        (Some(halted), None) => {
            let words = format!(
                "halted at {} by {}: {}",
                time(halted.at),
                harmless(&halted.who),
                harmless(&halted.because)
            );
            writeln!(text, "       {}", styled(style::BAD, words))
        }
        (None, None) => writeln!(text, "       {}", summary.status.words()),
    };
    for wave in &rollout.waves {
        let change = wave.change.map(|no| format!("C{no}")).unwrap_or_default();
        let _ =
            writeln!(text, "  wave {}  {:>3} %  {change:<6} {}", wave.wave, wave.percent, how(rollout, wave));
    }
    text
}

/// Returns a rollout whole.
pub fn whole(rollout: &Rollout, all: &[RolloutNode], lists_all: bool) -> String {
    let mut text = head(rollout);
    if !rollout.bad_clauses.is_empty() {
        text += "what failed\n";
        for bad in &rollout.bad_clauses {
            let names = harmless(&bad.names.join(", "));
            let more = bad.nodes.saturating_sub(bad.names.len() as u64);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let _ = writeln!(
                text,
                "  {} on {}: {}  ({names}{more})",
                harmless(&bad.address),
                nodes(bad.nodes),
                harmless(&bad.message)
            );
        }
    }
    let label = rollout.rollout.plan.within.as_deref().unwrap_or_default();
    let bad: Vec<_> = rollout.within.iter().filter(|of| of.bad > 0).collect();
    if !bad.is_empty() {
        let _ = writeln!(text, "bad, by {}", harmless(label));
        for BadWithin { value, nodes: all, bad } in bad {
            let value = if value.is_empty() { "(without it)".to_owned() } else { harmless(value) };
            let _ = writeln!(text, "  {value}  {bad} of {all}");
        }
        let well = rollout.within.iter().filter(|of| of.bad == 0).count();
        if well > 0 {
            let _ = writeln!(text, "  none on {well} more");
        }
    }
    let shown = if lists_all { all.len() } else { all.len().min(LISTED) };
    if shown > 0 {
        text += "nodes\n";
    }
    let width = all[..shown].iter().map(|node| node.name.chars().count()).max().unwrap_or(0);
    for node in &all[..shown] {
        let next = match node.state {
            RolloutNodeState::Pending | RolloutNodeState::NotHeard => {
                node.next_check_in.map(|at| format!(", next check-in promised for {}", time(at)))
            }
            RolloutNodeState::Silent => node.heard_at.map(|at| format!(", last heard {}", time(at))),
            _ => None,
        };
        let words = node.state.words();
        let is_bad = matches!(
            node.state,
            RolloutNodeState::Failed | RolloutNodeState::Unusable | RolloutNodeState::NotHeard
        );
        let words = if is_bad { styled(style::BAD, words.to_owned()) } else { words.to_owned() };
        let _ = writeln!(
            text,
            "  {:<width$}  wave {}  {words}{}",
            harmless(&node.name),
            node.wave,
            next.unwrap_or_default()
        );
    }
    if shown < all.len() {
        let _ = writeln!(text, "  and {} more: --all lists them", all.len() - shown);
    }
    text
}
