//! Texts with one key and its value a line: ini files, `key=value` and `key value`.

use super::lines::Lines;
use super::{Format, PartError};

/// Words that begin a part of a `key value` file that counts only for some; keys below them are not looked at.
const CONDITIONAL: [&str; 2] = ["match", "host"];

struct Entry<'t> {
    at: usize,
    value: &'t str,
}

/// Returns the value of a key.
pub fn read(text: &str, format: Format, key: &[&str]) -> Result<Option<String>, PartError> {
    Ok(Reading::of(text, format, key)?.the_one()?.map(|entry| unquoted(format, entry.value).to_owned()))
}

/// Returns the text with the key set.
pub fn write(text: &str, format: Format, key: &[&str], value: &str) -> Result<String, PartError> {
    let reading = Reading::of(text, format, key)?;
    Ok(match reading.the_one()? {
        Some(entry) => {
            let line = reading.lines[entry.at];
            let start = entry.value.as_ptr() as usize - line.as_ptr() as usize;
            let quote = quote_of(format, entry.value);
            Lines::of(text).replaced(
                entry.at,
                &format!("{}{quote}{value}{quote}{}", &line[..start], &line[start + entry.value.len()..]),
            )
        }
        None => reading.inserted(text, value),
    })
}

/// Returns the text without the key.
pub fn remove(text: &str, format: Format, key: &[&str]) -> Result<String, PartError> {
    let reading = Reading::of(text, format, key)?;
    let gone = reading.the_one()?.map(|entry| entry.at);
    Ok(Lines::of(text).kept(|at, _| Some(at) != gone))
}

/// What a text says of one key.
struct Reading<'t> {
    format: Format,
    section: Option<&'t str>,
    name: &'t str,
    lines: Vec<&'t str>,
    /// The lines in which the key may be.
    reach: std::ops::Range<usize>,
    /// Whether the key's section is there.
    has_section: bool,
    found: Vec<Entry<'t>>,
    /// A line that shows the key in a comment: a new one goes after it.
    example: Option<usize>,
    /// How other lines are written.
    spaced: bool,
    quoted: bool,
}

impl<'t> Reading<'t> {
    fn of(text: &'t str, format: Format, key: &[&'t str]) -> Result<Self, PartError> {
        let (section, name) = match (format, key) {
            (Format::Ini, [section, name]) => (Some(*section), *name),
            (_, [name]) => (None, *name),
            (Format::Ini, _) => {
                return Err(PartError::new("`key` of an ini file has a section and a name")
                    .hint("write key = [\"Section\", \"Name\"]"));
            }
            _ => {
                return Err(
                    PartError::new("`key` of this format has one name").hint("write key = [\"Name\"]")
                );
            }
        };
        let lines = Lines::of(text).bare();
        let (reach, has_section) = reach_of(&lines, format, section);
        let mut reading = Self {
            format,
            section,
            name,
            reach: reach.clone(),
            has_section,
            found: Vec::new(),
            example: None,
            spaced: false,
            quoted: false,
            lines,
        };
        for at in reach {
            let line = reading.lines[at];
            if let Some(shown) = comment(line, format) {
                if entry(shown, format).is_some_and(|(key, _)| reading.is_it(key)) {
                    reading.example = Some(at);
                }
            } else if let Some((key, value)) = entry(line, format) {
                reading.spaced |= line.contains(" = ");
                reading.quoted |= quote_of(format, value) == "\"";
                if reading.is_it(key) {
                    reading.found.push(Entry { at, value });
                }
            }
        }
        Ok(reading)
    }

    fn is_it(&self, key: &str) -> bool {
        if self.format == Format::KeySpaceValue {
            key.eq_ignore_ascii_case(self.name)
        } else {
            key == self.name
        }
    }

    fn the_one(&self) -> Result<Option<&Entry<'t>>, PartError> {
        match &self.found[..] {
            [] => Ok(None),
            [one] if one.value.ends_with('\\') => Err(PartError::new(format!(
                "the value of {} goes over several lines, from line {}",
                self.name,
                one.at + 1
            ))),
            [one] => Ok(Some(one)),
            several => {
                let numbers: Vec<String> = several.iter().map(|entry| (entry.at + 1).to_string()).collect();
                Err(PartError::new(format!("{} is on the lines {}", self.name, numbers.join(", ")))
                    .hint("remove the extra ones, or manage the whole file"))
            }
        }
    }

    fn inserted(&self, text: &str, value: &str) -> String {
        let quote = if self.quoted && self.format == Format::KeyEqualsValue { "\"" } else { "" };
        let separator = match self.format {
            Format::KeySpaceValue => " ",
            _ if self.spaced => " = ",
            _ => "=",
        };
        let line = format!("{}{separator}{quote}{value}{quote}", self.name);
        if self.has_section {
            let after_last = self
                .reach
                .clone()
                .rfind(|at| !self.lines[*at].trim().is_empty())
                .map_or(self.reach.start, |at| at + 1);
            return Lines::of(text).inserted(self.example.map_or(after_last, |at| at + 1), &[&line]);
        }
        let gap = self.lines.last().filter(|last| !last.trim().is_empty()).map(|_| String::new());
        let heading = self.section.map(|section| format!("[{section}]"));
        let new: Vec<String> = gap.into_iter().chain(heading).chain([line]).collect();
        Lines::of(text).inserted(self.lines.len(), &new.iter().map(String::as_str).collect::<Vec<_>>())
    }
}

/// Returns the lines in which a key of the section may be, and whether there is such a section.
fn reach_of(lines: &[&str], format: Format, section: Option<&str>) -> (std::ops::Range<usize>, bool) {
    let heading = |line: &str| {
        line.trim().strip_prefix('[').and_then(|rest| Some(rest.split_once(']')?.0.trim().to_owned()))
    };
    match (format, section) {
        (Format::Ini, Some(section)) => {
            match lines.iter().position(|line| heading(line).as_deref() == Some(section)) {
                Some(at) => {
                    let end = lines[at + 1..]
                        .iter()
                        .position(|line| heading(line).is_some())
                        .map_or(lines.len(), |next| at + 1 + next);
                    (at + 1..end, true)
                }
                None => (lines.len()..lines.len(), false),
            }
        }
        (Format::Ini, None) => {
            (0..lines.iter().position(|line| heading(line).is_some()).unwrap_or(lines.len()), true)
        }
        (Format::KeySpaceValue, _) => {
            let conditional = |line: &&str| {
                line.split_whitespace()
                    .next()
                    .is_some_and(|word| CONDITIONAL.contains(&word.to_lowercase().as_str()))
            };
            (0..lines.iter().position(conditional).unwrap_or(lines.len()), true)
        }
        _ => (0..lines.len(), true),
    }
}

fn comment(line: &str, format: Format) -> Option<&str> {
    let line = line.trim_start();
    line.strip_prefix('#').or_else(|| line.strip_prefix(';').filter(|_| format == Format::Ini))
}

/// Takes a line apart into key and value.
fn entry(line: &str, format: Format) -> Option<(&str, &str)> {
    let line = line.trim();
    let (key, value) = match format {
        Format::KeySpaceValue => {
            let at = line.find(|c: char| c.is_whitespace() || c == '=').unwrap_or(line.len());
            (&line[..at], line[at..].trim_start_matches(|c: char| c.is_whitespace() || c == '='))
        }
        _ => {
            let (key, value) = line.split_once('=')?;
            (key.trim(), value.trim())
        }
    };
    let key = if format == Format::KeyEqualsValue {
        key.strip_prefix("export ").map_or(key, str::trim_start)
    } else {
        key
    };
    (!key.is_empty()).then_some((key, value))
}

/// Returns the quotes around a value.
fn quote_of(format: Format, value: &str) -> &'static str {
    let is_in = |quote: char| {
        format == Format::KeyEqualsValue
            && value.len() >= 2
            && value.starts_with(quote)
            && value.ends_with(quote)
    };
    if is_in('"') {
        "\""
    } else if is_in('\'') {
        "'"
    } else {
        ""
    }
}

fn unquoted(format: Format, value: &str) -> &str {
    let quote = quote_of(format, value);
    &value[quote.len()..value.len() - quote.len()]
}
