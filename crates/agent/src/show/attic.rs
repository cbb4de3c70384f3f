//! The attic, for people.

use crate::attic::{AtticEntry, Forgotten};
use constans_terminal::{count, harmless, style, styled, time};
use std::fmt::Write as _;

/// Returns a list of what is kept, the newest first.
pub fn show_list(kept: &[&AtticEntry], forgotten: &Forgotten, place: &str) -> String {
    let mut text = format!(
        "{} in the attic of {place}\n\n",
        styled(style::STRONG, count(kept.len(), "entry", "entries"))
    );
    let width = kept.iter().map(|kept| kept.path.chars().count()).max().unwrap_or(0);
    for one in kept.iter().rev() {
        let by = match (&one.clause, &one.run) {
            (Some(clause), Some(run)) if one.during_grace => {
                format!("copy of {clause} during its grace, run {run}")
            }
            (Some(clause), Some(run)) => format!("for {clause}, run {run}"),
            (_, Some(run)) => format!("by run {run}"),
            _ => "by a restore".to_owned(),
        };
        let line = format!(
            "{:>4}  {}  {:<width$}  {:>8} bytes  {}",
            one.number,
            time(one.at),
            harmless(&one.path),
            one.bytes,
            one.permissions
        );
        let _ = writeln!(text, "{line}  {}", styled(style::MUTED, harmless(&by)));
    }
    if let Some(until) = forgotten.until {
        let entries =
            count(usize::try_from(forgotten.things).unwrap_or(usize::MAX), "older entry", "older entries");
        let _ = writeln!(
            text,
            "\n{entries}, replaced until {}, were removed to stay within its limit",
            time(until)
        );
    }
    let next = if kept.is_empty() {
        "constans-agent enforce stores here what it replaces or removes"
    } else {
        "constans-agent attic compare NUMBER, then attic put-back NUMBER"
    };
    let _ = writeln!(text, "\n{} {next}", styled(style::STRONG, "Next:"));
    text
}
