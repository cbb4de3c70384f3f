//! Turns the TOML parser's errors into findings at the place of the mistake.

use super::codes::Code;
use super::files::Place;
use super::finding::Finding;
use super::open_quotes;
use std::ops::Range;
use std::sync::Arc;

const DEEPEST_NESTING: usize = 64;
/// The largest number of mistakes of one document that are reported; later ones are mostly consequences.
const MAX_MISTAKES: usize = 100;

/// Returns one finding for each mistake; what only follows from an earlier one is left out. `quotes` are those that were left open
/// where these errors were found in the document with them closed.
pub(super) fn findings(
    file: &Arc<str>,
    text: &str,
    errors: &[toml::de::Error],
    quotes: &[usize],
) -> Vec<Finding> {
    let mut mistakes: Vec<Mistake> =
        errors.iter().take(MAX_MISTAKES).map(|error| Mistake::of(text, error)).collect();
    mistakes.retain(|mistake| !open_quotes::is_on_line_of(text, quotes, mistake.range.start));
    mistakes.extend(quotes.iter().map(|at| Mistake::opened(*at, 1, "the text", &text[*at..=*at], false)));
    mistakes.sort_by_key(|mistake| (mistake.range.start, !mistake.opened));
    // What is never closed swallows what follows: complaints from there on are its consequences.
    if let Some(from) = mistakes
        .iter()
        .filter(|mistake| mistake.opened && mistake.swallows)
        .map(|mistake| mistake.range.start)
        .min()
    {
        mistakes.retain(|mistake| mistake.range.start <= from);
    }
    mistakes.dedup_by_key(|mistake| text[..mistake.range.start.min(text.len())].matches('\n').count());
    mistakes
        .into_iter()
        .map(|mistake| {
            Finding::error(Code::Syntax, Place::new(file, text, mistake.range), mistake.message)
                .maybe_hint(mistake.hint)
        })
        .collect()
}

/// Returns where lists and inline tables are nested deeper than any document needs.
pub(super) fn nesting_too_deep(text: &str) -> Option<usize> {
    let mut depth = 0usize;
    for (at, sign) in signs(text) {
        match sign {
            '[' | '{' => depth += 1,
            ']' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST_NESTING {
            return Some(at);
        }
    }
    None
}

struct Mistake {
    range: Range<usize>,
    message: String,
    hint: Option<String>,
    opened: bool,
    swallows: bool,
}

impl Mistake {
    fn opened(at: usize, len: usize, what: &str, close: &str, swallows: bool) -> Self {
        Self {
            range: at..at + len,
            message: format!("{what} opened here is never closed"),
            hint: Some(format!("close it with `{close}`")),
            opened: true,
            swallows,
        }
    }

    fn of(text: &str, error: &toml::de::Error) -> Self {
        let span = error.span().unwrap_or(0..0);
        let message = error.message();
        if message.contains("multi-line") && message.contains("invalid") {
            let quotes = if message.contains("literal") { "'''" } else { "\"\"\"" };
            let at = text[..span.start.min(text.len())].rfind(quotes).unwrap_or(span.start);
            return Self::opened(at, 3, "the text", quotes, true);
        }
        if message.starts_with("unclosed array") || message.starts_with("unclosed inline table") {
            let (open, close, what) =
                if message.contains("array") { ('[', ']', "the list") } else { ('{', '}', "the table") };
            if let Some(at) = never_closed(text, open) {
                return Self::opened(at, 1, what, &close.to_string(), true);
            }
        }
        let (message, hint) = plain(message);
        Self {
            range: span.start..span.end.max(span.start + 1),
            message,
            hint,
            opened: false,
            swallows: false,
        }
    }
}

/// Says the parser's message in the words of someone who writes a document.
fn plain(message: &str) -> (String, Option<String>) {
    let (what, expected) = message.split_once(", expected ").unwrap_or((message, ""));
    let hint = match (what, expected) {
        ("string values must be quoted", _) => {
            Some("put the text in quotes, and one `key = value` on a line".to_owned())
        }
        ("unexpected leading zero", _) => {
            Some("write octal permissions in quotes, as \"0640\"; other numbers without the zero".to_owned())
        }
        ("duplicate key", _) => {
            Some("keep one of the two; a further clause begins with its own `[[clause]]`".to_owned())
        }
        (_, "" | "nothing") => None,
        (_, expected) => Some(format!("expected {expected}")),
    };
    (what.to_owned(), hint)
}

/// Returns the last opening sign that has no closing one; headers of tables close themselves on their line.
fn never_closed(text: &str, open: char) -> Option<usize> {
    let mut stack: Vec<(usize, char)> = Vec::new();
    for (at, sign) in signs(text) {
        match sign {
            '[' | '{' => stack.push((at, sign)),
            ']' | '}' => drop(stack.pop()),
            _ => {}
        }
    }
    stack.iter().find(|(_, sign)| *sign == open).map(|(at, _)| *at)
}

/// Returns the brackets and braces outside of texts and comments.
fn signs(text: &str) -> impl Iterator<Item = (usize, char)> {
    let bytes = text.as_bytes();
    let mut at = 0;
    std::iter::from_fn(move || {
        while at < bytes.len() {
            let here = at;
            match bytes[at] {
                b'#' => at += bytes[at..].iter().position(|byte| *byte == b'\n').unwrap_or(bytes.len() - at),
                quote @ (b'"' | b'\'') => at = after_text(bytes, at, quote),
                sign @ (b'[' | b']' | b'{' | b'}') => {
                    at += 1;
                    return Some((here, sign as char));
                }
                _ => at += 1,
            }
        }
        None
    })
}

fn after_text(bytes: &[u8], start: usize, quote: u8) -> usize {
    let triple = bytes[start..].starts_with(&[quote; 3]);
    let mut at = start + if triple { 3 } else { 1 };
    while at < bytes.len() {
        match bytes[at] {
            b'\\' if quote == b'"' => at += 2,
            b'\n' if !triple => return at,
            byte if byte == quote && !triple => return at + 1,
            byte if byte == quote && bytes[at..].starts_with(&[quote; 3]) => return at + 3,
            _ => at += 1,
        }
    }
    bytes.len()
}
