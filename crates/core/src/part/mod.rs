//! Parts of files that others own: one line, or the value of one key. Everything else of the text, its comments and its
//! order stay as they are.

mod json;
mod keyed_lines;
mod line;
mod lines;
mod toml;
mod yaml;

pub use line::{Line, LinePosition};

use serde_json::Value;

/// Why a part of a text could not be read or changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct PartError {
    /// What happened, in one sentence.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
}

impl PartError {
    fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), hint: None }
    }

    fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

/// How a file with settings is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Sections in brackets, `key=value` below them.
    Ini,
    /// TOML 1.0.
    Toml,
    /// JSON, with comments or without.
    Json,
    /// YAML 1.2.
    Yaml,
    /// `key=value`, a line each.
    KeyEqualsValue,
    /// `key value`, a line each.
    KeySpaceValue,
}

impl Format {
    /// Returns the format that documents call so.
    pub fn of_word(word: &str) -> Option<Self> {
        Some(match word {
            "ini" => Self::Ini,
            "toml" => Self::Toml,
            "json" => Self::Json,
            "yaml" => Self::Yaml,
            "key=value" => Self::KeyEqualsValue,
            "key value" => Self::KeySpaceValue,
            _ => return None,
        })
    }

    /// Returns how a value reads in this format: where all values are texts, a number or a boolean is one too.
    ///
    /// # Errors
    ///
    /// Returns that the format cannot hold such a value.
    pub fn as_read(self, value: &Value) -> Result<Value, PartError> {
        match self {
            Self::Toml if holds_null(value) => {
                Err(PartError::new("TOML has no null").hint("leave the key out: gone = true"))
            }
            Self::Toml | Self::Json | Self::Yaml => Ok(value.clone()),
            Self::Ini | Self::KeyEqualsValue | Self::KeySpaceValue => plain_text(value).map(Value::from),
        }
    }
}

/// Reads the value of a key; none if the text does not have it.
///
/// # Errors
///
/// Returns why the text cannot be read in this format, or that it has the key more than once.
pub fn read_setting(text: &str, format: Format, key: &[&str]) -> Result<Option<Value>, PartError> {
    must_have_a_name(key)?;
    match format {
        Format::Toml => toml::read(text, key),
        Format::Json => json::read(text, key),
        Format::Yaml => yaml::read(text, key),
        lines => keyed_lines::read(text, lines, key).map(|value| value.map(Value::from)),
    }
}

/// Returns the text with the key set to a value; all else stays.
///
/// # Errors
///
/// Returns why that cannot be done; a change that would touch anything else is refused.
pub fn write_setting(text: &str, format: Format, key: &[&str], value: &Value) -> Result<String, PartError> {
    must_have_a_name(key)?;
    let value = format.as_read(value)?;
    let written = match format {
        Format::Toml => toml::write(text, key, &value)?,
        Format::Json => json::write(text, key, &value)?,
        Format::Yaml => yaml::write(text, key, &value)?,
        lines => keyed_lines::write(text, lines, key, value.as_str().unwrap_or_default())?,
    };
    must_differ_only_at(text, &written, format, key, Some(&value))?;
    Ok(written)
}

/// Returns the text without the key; all else stays.
///
/// # Errors
///
/// Returns why that cannot be done; a change that would touch anything else is refused.
pub fn remove_setting(text: &str, format: Format, key: &[&str]) -> Result<String, PartError> {
    must_have_a_name(key)?;
    let written = match format {
        Format::Toml => toml::remove(text, key)?,
        Format::Json => json::remove(text, key)?,
        Format::Yaml => yaml::remove(text, key)?,
        lines => keyed_lines::remove(text, lines, key)?,
    };
    must_differ_only_at(text, &written, format, key, None)?;
    Ok(written)
}

/// A key goes so deep at most.
const DEEPEST_KEY: usize = 32;

fn must_have_a_name(key: &[&str]) -> Result<(), PartError> {
    match key.len() {
        0 => Err(PartError::new("`key` is empty").hint("write key = [\"Section\", \"Name\"]")),
        1..=DEEPEST_KEY => Ok(()),
        deep => Err(PartError::new(format!(
            "`key` goes {deep} names deep, and at most {DEEPEST_KEY} are followed"
        ))),
    }
}

/// Reads the changed text again: only the one key may differ. What cannot be edited safely is refused by this.
fn must_differ_only_at(
    before: &str,
    after: &str,
    format: Format,
    key: &[&str],
    wanted: Option<&Value>,
) -> Result<(), PartError> {
    let unsafe_change = || {
        PartError::new(format!(
            "the key {} cannot be changed without touching other parts of the file",
            key.join(".")
        ))
        .hint("manage the whole file with a `file` clause")
    };
    if read_setting(after, format, key).map_err(|_| unsafe_change())?.as_ref() != wanted {
        return Err(unsafe_change());
    }
    let whole = |text: &str| match format {
        Format::Toml => toml::whole(text),
        Format::Json => json::whole(text),
        Format::Yaml => yaml::whole(text),
        _ => Ok(Value::Null),
    };
    let (mut was, mut is) = (whole(before)?, whole(after).map_err(|_| unsafe_change())?);
    take_out(&mut was, key);
    take_out(&mut is, key);
    if was == is { Ok(()) } else { Err(unsafe_change()) }
}

/// Takes a key out of a value, and the maps that are empty then.
fn take_out(value: &mut Value, key: &[&str]) {
    let (Some((first, rest)), Value::Object(map)) = (key.split_first(), &mut *value) else { return };
    if rest.is_empty() {
        map.shift_remove(*first);
    } else if let Some(inner) = map.get_mut(*first) {
        take_out(inner, rest);
        if inner.is_null() || inner.as_object().is_some_and(serde_json::Map::is_empty) {
            map.shift_remove(*first);
        }
    }
    if map.is_empty() {
        *value = Value::Null;
    }
}

fn holds_null(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Array(items) => items.iter().any(holds_null),
        Value::Object(map) => map.values().any(holds_null),
        _ => false,
    }
}

fn plain_text(value: &Value) -> Result<String, PartError> {
    let text = match value {
        Value::String(text) => text.clone(),
        Value::Number(number) => number.to_string(),
        Value::Bool(boolean) => boolean.to_string(),
        _ => {
            return Err(PartError::new("this format holds texts only, no lists and maps")
                .hint("write the value as the file has it, in quotes"));
        }
    };
    if text.contains(['\n', '\r', '\0']) || text.trim() != text {
        return Err(PartError::new("a value of this format is one line, without spaces around it"));
    }
    Ok(text)
}

/// The line end that a text uses.
fn line_end(text: &str) -> &'static str {
    if text.contains("\r\n") { "\r\n" } else { "\n" }
}

/// Returns the value at a key of a whole.
fn at_key(whole: &Value, key: &[&str]) -> Result<Option<Value>, PartError> {
    let mut value = whole;
    for (depth, name) in key.iter().enumerate() {
        match value {
            Value::Object(map) => match map.get(*name) {
                Some(inner) => value = inner,
                None => return Ok(None),
            },
            Value::Null => return Ok(None),
            _ => return Err(no_map(key, depth.saturating_sub(1))),
        }
    }
    Ok(Some(value.clone()))
}

/// Says that a key leads through something that has no keys.
fn no_map(key: &[&str], depth: usize) -> PartError {
    PartError::new(format!("{} has no keys below it", key[..=depth].join(".")))
        .hint("check the spelling of the key against the file")
}

#[cfg(test)]
mod tests;
