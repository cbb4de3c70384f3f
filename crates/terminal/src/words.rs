//! Words, numbers and colours of terminal output. Colour never shows anything that a word does not say.

use anstyle::{AnsiColor, Style};
use constans_core::run::Status;
use jiff::Timestamp;
use std::fmt::Display;

/// How a part of an output looks.
pub mod style {
    use super::{AnsiColor, Style};

    /// What counts most.
    pub const STRONG: Style = Style::new().bold();
    /// What matters less.
    pub const MUTED: Style = Style::new().dimmed();
    /// What is well.
    pub const WELL: Style = AnsiColor::Cyan.on_default();
    /// What wants attention.
    pub const ATTENTION: Style = AnsiColor::Yellow.on_default();
    /// What failed.
    pub const BAD: Style = AnsiColor::Red.on_default().bold();
}

/// Returns the style that a status has.
pub fn style_of(status: Status) -> anstyle::Style {
    match status {
        Status::Failed => style::BAD,
        Status::DriftFound | Status::Unmet | Status::RolloutWaiting | Status::NotAllSeen => style::ATTENTION,
        Status::DriftCorrected | Status::RolledOut | Status::InLine => style::WELL,
    }
}

/// Returns a text in a style.
pub fn styled(style: Style, text: impl Display) -> String {
    format!("{}{text}{}", style.render(), style.render_reset())
}

/// Returns a time as people read it: UTC, to the second.
pub fn time(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// Returns a duration given in microseconds as people read it.
pub fn duration(micros: u64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "it is rounded for people")]
    let secs = micros as f64 / 1_000_000.0;
    match micros {
        0..1_000 => format!("{micros} µs"),
        1_000..1_000_000 => format!("{} ms", micros / 1_000),
        1_000_000..60_000_000 => format!("{secs:.1} s"),
        _ => format!("{} min {} s", micros / 60_000_000, micros % 60_000_000 / 1_000_000),
    }
}

/// Returns a number with its noun.
pub fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Makes text from the node harmless on a terminal: control characters are written out, lines and tabs kept.
pub fn harmless(text: &str) -> String {
    text.chars()
        .flat_map(|c| match c {
            '\n' | '\t' => vec![c],
            c if c.is_control() || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}') => {
                c.escape_unicode().collect()
            }
            c => vec![c],
        })
        .collect()
}
