//! One clause of a run as text.

use super::words::{duration, harmless, style, style_of, styled};
use constans_core::run::{ClauseResult, Failure, NativeStep, Outcome};
use constans_core::sentence::Sentence;
use std::fmt::Write as _;

/// Returns the lines about one clause.
pub fn clause(result: &ClauseResult, verbose: bool) -> String {
    let mut text = String::new();
    let words = result.words();
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
    let cause = words.cause.map(|cause| format!(" · {}", sentence(&cause))).unwrap_or_default();
    let head_style = if result.outcome == Outcome::Idle { style::MUTED } else { style_of(words.status) };
    let _ = writeln!(text, "   {}{cause}", styled(head_style, sentence(&words.headline)));
    differences(&mut text, "", &result.differences);
    if result.still_different != result.differences {
        differences(&mut text, "still ", &result.still_different);
    }
    diff(&mut text, result);
    failure(&mut text, result.failure.as_ref());
    if !words.related.is_empty() {
        let _ = writeln!(text, "   on record there at the time it drifted (related, no proof):");
        for record in &words.related {
            let _ = writeln!(text, "      {}", sentence(record));
        }
    }
    for note in &words.notes {
        let _ = writeln!(text, "   {}", sentence(note));
    }
    for warning in &words.warnings {
        let _ = writeln!(text, "   {}", styled(style::ATTENTION, sentence(warning)));
    }
    if verbose {
        native(&mut text, &result.native);
        for detail in &words.details {
            let _ = writeln!(text, "      {}", sentence(detail));
        }
        origins(&mut text, result);
    }
    text
}

fn sentence(sentence: &Sentence) -> String {
    harmless(&sentence.write_dated())
}

/// Writes what differs, a line each: the property, with `prefix` before it, and both sides.
pub fn differences(text: &mut String, prefix: &str, differences: &[constans_core::compare::Difference]) {
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

/// Writes how a file's contents differ, line by line.
pub fn text_diff(text: &mut String, diff: &constans_core::compare::TextDiff) {
    for line in harmless(&diff.text).lines() {
        let _ = writeln!(text, "      {}", diff_line(line));
    }
    if diff.cut {
        let _ = writeln!(text, "      (truncated at 8 KiB)");
    }
}

fn diff(text: &mut String, result: &ClauseResult) {
    if let Some(diff) = &result.text_diff {
        text_diff(text, diff);
    }
    if let Some(refused) = result.text_diff_refused {
        let because = refused.words();
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

fn origins(text: &mut String, result: &ClauseResult) {
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
