//! One clause of a run, for people.

use super::words::{duration, harmless, style, styled, time};
use constans_core::compare::TextDiffRefusal;
use constans_core::node_status::span_words;
use constans_core::run::{
    Cause, ClauseResult, Decision, Failure, FailureAt, NativeStep, Newness, Outcome, ReactionState,
};
use std::fmt::Write as _;

/// Returns what is to be said of one clause, several lines.
pub fn clause(result: &ClauseResult, verbose: bool) -> String {
    let mut text = String::new();
    let (head_style, head) = headline(result);
    let severity = serde_json::to_value(result.severity)
        .ok()
        .and_then(|word| word.as_str().map(str::to_owned))
        .unwrap_or_default();
    let took = if result.took_us > 0 { format!(" · {}", duration(result.took_us)) } else { String::new() };
    let _ = writeln!(
        text,
        "{}  {}",
        styled(style::STRONG, harmless(result.address.as_str())),
        styled(style::MUTED, format!("{severity} severity{took}"))
    );
    let why = why(result).map(|why| format!(" · {}", harmless(&why))).unwrap_or_default();
    let _ = writeln!(text, "   {}{why}", styled(head_style, harmless(&head)));
    differences(&mut text, "", &result.differences);
    if result.still_different != result.differences {
        differences(&mut text, "still ", &result.still_different);
    }
    diff(&mut text, result);
    for change in &result.packages {
        let (before, after) = (
            change.before.as_deref().unwrap_or("not installed"),
            change.after.as_deref().unwrap_or("removed"),
        );
        let _ = writeln!(text, "   package {}  {before} → {after}", harmless(&change.package));
    }
    let is_left = matches!(result.decision, Decision::Leave { .. });
    for old in &result.kept {
        let (path, number) = (harmless(&old.path), old.attic);
        let _ = match is_left {
            true => writeln!(text, "   a copy of {path} as it is now is number {number} in the attic"),
            false => writeln!(text, "   the replaced contents of {path} are number {number} in the attic"),
        };
    }
    failure(&mut text, result.failure.as_ref());
    reaction(&mut text, result);
    for missed in &result.missed {
        let _ = writeln!(text, "   {}", styled(style::ATTENTION, harmless(&missed.words())));
    }
    if verbose {
        details(&mut text, result);
    }
    text
}

/// Returns the one line that says what came or would come of a clause.
fn headline(result: &ClauseResult) -> (anstyle::Style, String) {
    let due = result.would.as_ref().unwrap_or(&result.decision);
    match (result.outcome, due) {
        (Outcome::InLine, _) if result.already_there => {
            (style::WELL, "in line, and already was at the first look".into())
        }
        (Outcome::InLine, _) => match &result.changed_by {
            Some(by) => (style::WELL, format!("in line, changed by {by} in this run")),
            None => (style::WELL, "in line".into()),
        },
        (Outcome::Corrected, _) => (style::WELL, "corrected".into()),
        (Outcome::Idle, _) if result.reaction.is_some() => (style::MUTED, "reacts only".into()),
        (Outcome::Idle, _) => (style::MUTED, "reacts only; nothing triggered it".into()),
        (Outcome::Unsupported, _) => (
            style::ATTENTION,
            format!("not examined: {}", result.unsupported.as_deref().unwrap_or("no backend on this node")),
        ),
        (Outcome::Failed, _) => {
            (style::BAD, format!("failed while {}", result.failed_at().map_or("running", failed_at)))
        }
        (Outcome::Blocked, Decision::Blocked { by }) => (style::BAD, format!("blocked: {}", by.words())),
        (Outcome::Blocked, _) => (style::BAD, "blocked".into()),
        (Outcome::OutOfLine, Decision::Correct) => (style::ATTENTION, "would be corrected".into()),
        (Outcome::OutOfLine, Decision::Leave { why }) => {
            (style::ATTENTION, format!("not corrected: {}", why.words()))
        }
        (Outcome::OutOfLine, _) => (style::ATTENTION, "out of line".into()),
    }
}

fn failed_at(at: FailureAt) -> &'static str {
    match at {
        FailureAt::Inspect => "inspecting",
        FailureAt::Correct => "correcting",
        FailureAt::Verify => "verifying",
        FailureAt::React => "reacting",
    }
}

/// Says why it is different, in words.
fn why(result: &ClauseResult) -> Option<String> {
    let window = result.drift_window.map(|window| {
        let secs = window.to.as_second() - window.from.as_second();
        format!(
            "the node changed between {} and {} (within {})",
            time(window.from),
            time(window.to),
            span_words(secs.max(1))
        )
    });
    let wanted = match result.newness {
        Some(Newness::NewHere) => "desired here for the first time".to_owned(),
        Some(Newness::HereBefore { until }) => format!("desired here again, as until {}", time(until)),
        Some(Newness::Changed) => "the desired state changed".to_owned(),
        None => String::new(),
    };
    Some(match result.cause? {
        Cause::Drift => format!("drift: {}", window?),
        Cause::Rollout if result.also_drifted => format!("rollout: {wanted}; and drift: {}", window?),
        Cause::Rollout => format!("rollout: {wanted}"),
        Cause::TargetMoved => match &result.changed_by {
            Some(by) => format!("target changed: {by} changed it in this run"),
            None => {
                "target changed: the node is unchanged, but no longer matches the desired state".to_owned()
            }
        },
    })
}

fn differences(text: &mut String, prefix: &str, differences: &[constans_core::compare::Difference]) {
    let sides: Vec<(&str, String, String)> = differences
        .iter()
        .map(|difference| {
            (
                difference.property.as_str(),
                harmless(&difference.wanted.words()),
                harmless(&difference.found.words()),
            )
        })
        .collect();
    let property_width = sides.iter().map(|(property, _, _)| property.chars().count()).max().unwrap_or(0);
    let wanted_width = sides.iter().map(|(_, wanted, _)| wanted.chars().count()).max().unwrap_or(0).min(40);
    for (property, wanted, found) in sides {
        let wanted = format!("{wanted:<wanted_width$}");
        let _ = writeln!(
            text,
            "   {prefix}{property:<property_width$}  desired {}   actual {}",
            styled(style::STRONG, wanted),
            styled(style::STRONG, found)
        );
    }
}

fn diff(text: &mut String, result: &ClauseResult) {
    if let Some(diff) = &result.text_diff {
        for line in harmless(&diff.text).lines() {
            let _ = writeln!(text, "      {}", diff_line(line));
        }
        if diff.cut {
            let _ = writeln!(text, "      (truncated at 8 KiB)");
        }
    }
    if let Some(refused) = result.text_diff_refused {
        let because = match refused {
            TextDiffRefusal::NoText => "not a text",
            TextDiffRefusal::TooLarge => "larger than 256 KiB",
            TextDiffRefusal::KeyMaterial => "it may contain a private key",
        };
        let _ = writeln!(text, "      (text difference not shown: {because})");
    }
}

/// Returns one line of a text diff as it is shown.
pub fn diff_line(line: &str) -> String {
    let style = match line.chars().next() {
        Some('+') => style::WELL,
        Some('-') => style::ATTENTION,
        _ => style::MUTED,
    };
    styled(style, harmless(line)).to_string()
}

/// Says what failed, the command with its output, and what may help.
pub(crate) fn failure(text: &mut String, failure: Option<&Failure>) {
    let Some(failure) = failure else { return };
    let _ = writeln!(text, "   {}", styled(style::BAD, harmless(&failure.message)));
    if let Some(command) = &failure.command {
        let exit =
            command.exit.map_or_else(|| "did not exit".to_owned(), |exit| format!("exit status {exit}"));
        let _ = writeln!(text, "      $ {}   ({exit})", harmless(&command.what));
        for line in harmless(&command.output).lines() {
            let _ = writeln!(text, "      {}", styled(style::MUTED, line));
        }
    }
    if let Some(remedy) = &failure.remedy {
        let _ = writeln!(text, "   what to do: {}", harmless(remedy));
    }
}

fn reaction(text: &mut String, result: &ClauseResult) {
    let Some(reaction) = &result.reaction else { return };
    let causes: Vec<&str> =
        reaction.causes.iter().map(constans_core::address::ClauseAddress::as_str).collect();
    let said = match reaction.state {
        ReactionState::Done => "done",
        ReactionState::NotNeeded => "no longer needed",
        ReactionState::Would => "would be done",
        ReactionState::Due => "due",
        ReactionState::Failed => "failed, still due",
    };
    let since = if matches!(reaction.state, ReactionState::Due | ReactionState::Failed) {
        format!(" since {}", time(reaction.since))
    } else {
        String::new()
    };
    let _ = writeln!(
        text,
        "   {}: {said}{since}, triggered by {}",
        reaction.reaction.word(),
        harmless(&causes.join(", "))
    );
}

/// Says how it was done natively.
pub(crate) fn native(text: &mut String, steps: &[NativeStep]) {
    for step in steps {
        let exit = step.exit.map(|exit| format!("   (exit status {exit})")).unwrap_or_default();
        let _ = writeln!(
            text,
            "      {} {}{exit}",
            if step.exit.is_some() { "$" } else { "·" },
            harmless(&step.what)
        );
    }
}

fn details(text: &mut String, result: &ClauseResult) {
    native(text, &result.native);
    for left_out in &result.not_examined {
        let _ = writeln!(text, "      {} is not examined here: {}", left_out.property, left_out.why);
    }
    for need in &result.dropped_needs {
        let _ = writeln!(text, "      the need {need} is not part of the desired state of this node");
    }
    if let Some(stand_in) = &result.stand_in {
        let _ = writeln!(text, "      {stand_in}");
    }
    let origins: Vec<String> = result
        .origins
        .iter()
        .map(|origin| format!("{}@{}/{}", origin.kit, origin.version, origin.baseline))
        .collect();
    let _ = writeln!(
        text,
        "      {}",
        styled(style::MUTED, format!("from {}; desired {}", origins.join(", "), result.wanted.short()))
    );
}
