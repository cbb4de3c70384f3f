//! The attic, for people.

use crate::attic::{AtticEntry, Forgotten};
use constans_terminal::{count, harmless, style, styled, time};
use std::fmt::Write as _;

/// Returns a list of what is kept, the newest first.
pub fn show_list(kept: &[&AtticEntry], forgotten: &Forgotten, place: &str) -> String {
    let mut text =
        format!("{} in the attic of {place}\n", styled(style::STRONG, count(kept.len(), "entry", "entries")));
    let width = kept.iter().map(|kept| kept.path.chars().count()).max().unwrap_or(0);
    if !kept.is_empty() {
        text.push('\n');
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::address::ClauseAddress;
    use constans_core::digest::of_contents;

    fn entry(number: u64, path: &str, clause: Option<&str>, during_grace: bool) -> AtticEntry {
        AtticEntry {
            number,
            path: path.to_owned(),
            at: "2026-11-23T07:00:00Z".parse().unwrap(),
            during_grace,
            run: clause.map(|_| uuid::Uuid::nil()),
            clause: clause.map(|clause| ClauseAddress::parse(clause).unwrap()),
            digest: of_contents(b"x"),
            bytes: 1_234,
            uid: 0,
            gid: 0,
            permissions: "0644".to_owned(),
        }
    }

    #[test]
    fn the_attic_is_listed_newest_first_with_what_replaced_each_entry() {
        let kept = [
            entry(1, "/etc/issue", Some("file:/etc/issue"), false),
            entry(2, "/etc/kiosk/shell.conf", Some("file:/etc/kiosk/shell.conf"), true),
            entry(3, "/etc/kiosk/\u{1b}[31mred", None, false),
        ];
        let forgotten = Forgotten { things: 2, until: Some("2026-10-01T00:00:00Z".parse().unwrap()) };
        let shown = show_list(&kept.iter().collect::<Vec<_>>(), &forgotten, "/");
        insta::assert_snapshot!(anstream::adapter::strip_str(&shown).to_string(), @r"
        3 entries in the attic of /

           3  2026-11-23 07:00:00 UTC  /etc/kiosk/\u{1b}[31mred      1234 bytes  0644  by a restore
           2  2026-11-23 07:00:00 UTC  /etc/kiosk/shell.conf      1234 bytes  0644  copy of file:/etc/kiosk/shell.conf during its grace, run 00000000-0000-0000-0000-000000000000
           1  2026-11-23 07:00:00 UTC  /etc/issue                 1234 bytes  0644  for file:/etc/issue, run 00000000-0000-0000-0000-000000000000

        2 older entries, replaced until 2026-10-01 00:00:00 UTC, were removed to stay within its limit

        Next: constans-agent attic compare NUMBER, then attic put-back NUMBER
        ");
        let empty = show_list(&[], &Forgotten::default(), "/");
        insta::assert_snapshot!(anstream::adapter::strip_str(&empty).to_string(), @"
        0 entries in the attic of /

        Next: constans-agent enforce stores here what it replaces or removes
        ");
    }
}
