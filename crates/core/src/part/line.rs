//! One line of a text.

use super::PartError;
use super::lines::Lines;
use regex::{Regex, RegexBuilder};

/// The largest compiled pattern, in bytes.
const MAX_PATTERN: usize = 256 * 1024;

/// One line that a clause keeps in a text.
#[derive(Debug, Clone)]
pub struct Line<'c> {
    text: Option<&'c str>,
    replaces: Option<Regex>,
    place: LinePosition,
}

/// Where a new line goes.
#[derive(Debug, Clone)]
pub enum LinePosition {
    /// Before all others.
    Start,
    /// After all others.
    End,
    /// After the last line that fits.
    After(Regex),
}

impl<'c> Line<'c> {
    /// Reads what a clause says of a line: its text (what is only to go may have none), the pattern of the line that it replaces, and where a new one goes.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with them.
    pub fn new(
        text: Option<&'c str>,
        replaces: Option<&str>,
        place: Option<&str>,
    ) -> Result<Self, PartError> {
        if text.is_some_and(|text| text.contains(['\n', '\r'])) {
            return Err(PartError::new("`text` is one line"));
        }
        let place = match place.unwrap_or("end") {
            "end" => LinePosition::End,
            "start" => LinePosition::Start,
            other => match other.strip_prefix("after ") {
                Some(pattern) => LinePosition::After(compiled(pattern)?),
                None => {
                    return Err(PartError::new(format!(
                        "`place` is `end`, `start` or `after ` and a regular expression, not `{other}`"
                    )));
                }
            },
        };
        Ok(Self { text, replaces: replaces.map(compiled).transpose()?, place })
    }

    /// Returns the line as it is found: the one that the pattern fits, or the one that is equal.
    ///
    /// # Errors
    ///
    /// Returns that the pattern fits several lines, and which.
    pub fn read<'t>(&self, text: &'t str) -> Result<Option<&'t str>, PartError> {
        let lines = Lines::of(text).bare();
        Ok(self.the_one(&lines)?.map(|at| lines[at]))
    }

    /// Returns whether any line of the text must go when the line is not wanted.
    pub fn is_there(&self, text: &str) -> bool {
        Lines::of(text).bare().iter().any(|line| self.means(line))
    }

    /// Returns the text with the line in it: in the place of the one that it replaces, or where a new one goes.
    ///
    /// # Errors
    ///
    /// Returns that the pattern fits several lines, or that there is no line to go after.
    pub fn write(&self, text: &str) -> Result<String, PartError> {
        let lines = Lines::of(text);
        let all = lines.bare();
        let wanted = self.text.ok_or_else(|| PartError::new("there is no `text` to be written"))?;
        if let Some(at) = self.the_one(&all)? {
            return Ok(lines.replaced(at, wanted));
        }
        let at = match &self.place {
            LinePosition::Start => 0,
            LinePosition::End => all.len(),
            LinePosition::After(pattern) => {
                let last = all.iter().rposition(|line| pattern.is_match(line));
                last.map(|at| at + 1).ok_or_else(|| {
                    PartError::new(format!(
                        "no line matches `{pattern}`, after which the new one should be inserted"
                    ))
                    .hint("fix `place`")
                })?
            }
        };
        Ok(lines.inserted(at, &[wanted]))
    }

    /// Returns the text without the lines that the pattern fits, or that are equal.
    pub fn remove(&self, text: &str) -> String {
        Lines::of(text).kept(|_, line| !self.means(line))
    }

    fn means(&self, line: &str) -> bool {
        Some(line) == self.text || self.replaces.as_ref().is_some_and(|pattern| pattern.is_match(line))
    }

    fn the_one(&self, all: &[&str]) -> Result<Option<usize>, PartError> {
        let Some(pattern) = &self.replaces else {
            return Ok(all.iter().position(|line| Some(*line) == self.text));
        };
        let fitting: Vec<usize> =
            all.iter().enumerate().filter(|(_, line)| pattern.is_match(line)).map(|(at, _)| at).collect();
        match fitting[..] {
            [] => Ok(all.iter().position(|line| Some(*line) == self.text)),
            [at] => Ok(Some(at)),
            _ => {
                let numbers: Vec<String> = fitting.iter().map(|at| (at + 1).to_string()).collect();
                Err(PartError::new(format!(
                    "`match` matches the lines {}, but may match only one",
                    numbers.join(", ")
                ))
                .hint("make the pattern narrower, or remove the extra lines"))
            }
        }
    }
}

fn compiled(pattern: &str) -> Result<Regex, PartError> {
    RegexBuilder::new(pattern)
        .size_limit(MAX_PATTERN)
        .build()
        .map_err(|error| PartError::new(format!("`{pattern}` is not a regular expression: {error}")))
}
