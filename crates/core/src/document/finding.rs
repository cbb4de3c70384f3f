//! What a check has to say of a document.

use super::codes::Code;
use super::files::{KitFiles, Place};
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;

/// The longest message or hint, in characters.
const LONGEST_SAID: usize = 600;

/// Whether a finding forbids going on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Level {
    /// It does.
    Error,
    /// It does not.
    Warning,
}

/// One thing that a check has to say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// Its stable code, as `C0120`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub code: Code,
    /// Whether it forbids going on.
    pub level: Level,
    /// One fact, in lower case.
    pub message: String,
    /// Where.
    pub place: Place,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Other places that belong to it, each with what it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub related: Vec<(String, Place)>,
}

impl Finding {
    /// Returns an error.
    pub fn error(code: Code, place: Place, message: impl Into<String>) -> Self {
        Self {
            code,
            level: Level::Error,
            message: one_line(&message.into()),
            place,
            hint: None,
            related: Vec::new(),
        }
    }

    /// Returns a warning.
    pub fn warning(code: Code, place: Place, message: impl Into<String>) -> Self {
        Self { level: Level::Warning, ..Self::error(code, place, message) }
    }

    /// Adds what to do.
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(one_line(&hint.into()));
        self
    }

    /// Adds what to do, if there is something.
    pub fn maybe_hint(mut self, hint: Option<String>) -> Self {
        self.hint = hint.map(|hint| one_line(&hint));
        self
    }

    /// Adds another place that belongs to it.
    pub fn related(mut self, what: impl Into<String>, place: Place) -> Self {
        self.related.push((what.into(), place));
        self
    }

    /// Says that all its places are in this kit, unless that is known.
    #[must_use]
    pub fn in_kit(self, kit: &str) -> Self {
        self.at_places(|place| place.in_kit(kit))
    }

    /// Takes this kit's name from all places in it.
    #[must_use]
    pub fn seen_from(self, kit: &str) -> Self {
        self.at_places(|place| place.seen_from(kit))
    }

    fn at_places(mut self, change: impl Fn(Place) -> Place) -> Self {
        self.place = change(self.place);
        self.related = self.related.into_iter().map(|(what, place)| (what, change(place))).collect();
        self
    }

    /// Returns the finding as a person reads it, with the line itself marked. `folder` is put before file names.
    pub fn explain(&self, files: &KitFiles, folder: &str) -> String {
        self.explain_as(&self.code.to_string(), files, folder)
    }

    /// Returns the same under a code that is given as text.
    pub(crate) fn explain_as(&self, code: &str, files: &KitFiles, folder: &str) -> String {
        let level = match self.level {
            Level::Error => "error",
            Level::Warning => "warning",
        };
        let mut text = format!("{level} {code}: {}\n", self.message);
        let hidden = matches!(self.code, Code::Password | Code::PlainSecret);
        mark(&mut text, files, folder, &self.place, None, hidden);
        for (what, place) in &self.related {
            mark(&mut text, files, folder, place, Some(what), hidden);
        }
        if let Some(hint) = &self.hint {
            let _ = writeln!(text, "hint: {hint}");
        }
        text
    }
}

/// What a document says may be long and hold anything: it is shown on one line.
fn one_line(line: &str) -> String {
    if line.len() <= LONGEST_SAID && !line.chars().any(char::is_control) {
        return line.to_owned();
    }
    let mut line: String =
        line.chars().take(LONGEST_SAID).map(|c| if c.is_control() { '·' } else { c }).collect();
    if line.chars().nth(LONGEST_SAID).is_some() {
        line += " …";
    }
    line
}

/// Returns all findings as a person reads them, errors first, with an empty line between.
pub fn explain_findings(findings: &[Finding], files: &KitFiles, folder: &str) -> String {
    findings.iter().map(|finding| finding.explain(files, folder)).collect::<Vec<_>>().join("\n")
}

/// Shows a place with its line; what is `hidden` is a secret and only its place is shown.
fn mark(text: &mut String, files: &KitFiles, folder: &str, place: &Place, what: Option<&str>, hidden: bool) {
    let what = what.map(|what| format!("  ({what})")).unwrap_or_default();
    let folder = if place.kit.is_some() { "" } else { folder };
    let _ = writeln!(text, "  --> {folder}{place}{what}");
    let source = files.text(&place.file).filter(|_| place.end > 0 && place.kit.is_none());
    let Some((source, line)) = source.and_then(|source| Some((source, source.lines().nth(place.line - 1)?)))
    else {
        return;
    };
    let plain = |line: &str| line.chars().map(|c| if c == '\t' { ' ' } else { c }).collect::<String>();
    let width = source
        .get(place.start..place.end.min(source.len()))
        .map_or(1, |marked| marked.lines().next().unwrap_or("").chars().count());
    let (before, after) = (place.column - 1, place.column - 1 + width);
    let shown: String = if hidden {
        let plain = plain(line);
        plain
            .chars()
            .take(before)
            .chain(std::iter::repeat_n('•', width))
            .chain(plain.chars().skip(after))
            .take(200)
            .collect()
    } else {
        plain(line).chars().take(200).collect()
    };
    let number = place.line.to_string();
    let _ = writeln!(text, "{number} | {shown}");
    let _ = writeln!(
        text,
        "{} | {}{}",
        " ".repeat(number.len()),
        " ".repeat(before),
        "^".repeat(width.clamp(1, 120))
    );
}
