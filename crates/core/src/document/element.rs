//! TOML documents as trees in which everything has its place.

use super::codes::Code;
use super::files::{KitFiles, Lines, Place};
use super::finding::Finding;
use super::keys::Key;
use super::{open_quotes, syntax};
use crate::nearest::nearest_word;
use serde_json::{Map, Number, Value};
use std::ops::Range;
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The largest document that is read, in bytes.
pub const MAX_DOCUMENT_BYTES: usize = 4 * 1024 * 1024;

const MAX_INTEGER: i64 = 1 << 53;

/// Returns what a person calls the type of a value.
pub(crate) fn type_word(value: &Value) -> &'static str {
    match value {
        Value::Null => "nothing",
        Value::Bool(_) => "a boolean",
        Value::Number(number) if number.is_f64() => "a number with a fraction",
        Value::Number(_) => "an integer",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "a map",
    }
}

/// A value of a document with its place.
#[derive(Debug, Clone)]
pub struct Element {
    /// Its value.
    pub value: ElementValue,
    /// Where.
    pub place: Place,
}

/// The value of an [`Element`].
#[derive(Debug, Clone)]
pub enum ElementValue {
    /// A text, a number or a boolean.
    Plain(Value),
    /// A list.
    List(Vec<Element>),
    /// A table: keys with their places, in the order written.
    Table(Vec<(String, Place, Element)>),
}

impl Element {
    /// Returns the value without places.
    pub fn to_json(&self) -> Value {
        match &self.value {
            ElementValue::Plain(value) => value.clone(),
            ElementValue::List(items) => Value::Array(items.iter().map(Element::to_json).collect()),
            ElementValue::Table(entries) => Value::Object(
                entries
                    .iter()
                    .map(|(key, _, element)| (key.clone(), element.to_json()))
                    .collect::<Map<_, _>>(),
            ),
        }
    }

    /// Returns the text, if it is one.
    pub fn as_str(&self) -> Option<&str> {
        match &self.value {
            ElementValue::Plain(Value::String(text)) => Some(text),
            _ => None,
        }
    }
}

/// Reads one TOML document, each value with its place; none if it cannot be read.
pub fn read_toml(file: &str, text: &str) -> Option<Element> {
    let files = KitFiles::new(std::collections::BTreeMap::from([(file.to_owned(), text.as_bytes())]));
    read(&files, file, &mut Vec::new())
}

/// Reads one document of a kit; what is wrong with it is added to `findings`.
///
/// Returns as much of the tree as can be read, so that one mistake does not hide the others.
pub(crate) fn read(files: &KitFiles, path: &str, findings: &mut Vec<Finding>) -> Option<Element> {
    let file: Arc<str> = path.into();
    let bytes = files.get(path)?;
    if bytes.len() > MAX_DOCUMENT_BYTES {
        findings.push(
            Finding::error(
                Code::TooLarge,
                Place::of_file(path),
                format!("the document has {} bytes, at most {MAX_DOCUMENT_BYTES} are read", bytes.len()),
            )
            .hint("split the baseline into several"),
        );
        return None;
    }
    let text = match std::str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => {
            findings.push(
                Finding::error(
                    Code::Unreadable,
                    Place::of_file(path),
                    format!("not UTF-8 from byte {} on", error.valid_up_to()),
                )
                .hint("save the file as UTF-8"),
            );
            return None;
        }
    };
    if let Some(deep) = syntax::nesting_too_deep(text) {
        findings.push(
            Finding::error(
                Code::TooLarge,
                Place::new(&file, text, deep..deep + 1),
                "lists and tables are nested too deep here",
            )
            .hint("at most 64 levels are read"),
        );
        return None;
    }
    let (table, errors) = DeTable::parse_recoverable(text);
    let closed = if errors.is_empty() { None } else { open_quotes::close(text) };
    let (table, errors) = match &closed {
        Some(closed) => DeTable::parse_recoverable(&closed.text),
        None => (table, errors),
    };
    findings.extend(syntax::findings(
        &file,
        text,
        &errors,
        closed.as_ref().map_or(&[], |closed| &closed.opened),
    ));
    let mut reader = TreeReader { lines: Lines::new(file, text), findings };
    let span = table.span();
    Some(reader.table(table.get_ref(), span))
}

struct TreeReader<'a> {
    lines: Lines<'a>,
    findings: &'a mut Vec<Finding>,
}

impl TreeReader<'_> {
    fn place(&self, span: Range<usize>) -> Place {
        self.lines.place(span)
    }

    fn table(&mut self, table: &DeTable<'_>, span: Range<usize>) -> Element {
        let entries = table
            .iter()
            .filter_map(|(key, value)| {
                let element = self.element(value)?;
                Some((key.get_ref().to_string(), self.place(key.span()), element))
            })
            .collect();
        Element { value: ElementValue::Table(entries), place: self.place(span) }
    }

    fn element(&mut self, value: &Spanned<DeValue<'_>>) -> Option<Element> {
        let place = self.place(value.span());
        let plain = match value.get_ref() {
            DeValue::Table(table) => return Some(self.table(table, value.span())),
            DeValue::Array(items) => {
                let items = items.iter().filter_map(|item| self.element(item)).collect();
                return Some(Element { value: ElementValue::List(items), place });
            }
            DeValue::String(text) => Some(Value::from(text.as_ref())),
            DeValue::Boolean(boolean) => Some(Value::from(*boolean)),
            DeValue::Integer(integer) => i64::from_str_radix(integer.as_str(), integer.radix())
                .ok()
                .filter(|integer| integer.abs() <= MAX_INTEGER)
                .map(Value::from)
                .or_else(|| {
                    self.refuse(&place, "integers go from -2^53 to 2^53", "write it as a text, in quotes")
                }),
            DeValue::Float(float) => float
                .as_str()
                .replace('_', "")
                .parse::<f64>()
                .ok()
                .and_then(Number::from_f64)
                .map(Value::Number)
                .or_else(|| self.refuse(&place, "NaN and infinity are not allowed here", "write a number")),
            DeValue::Datetime(datetime) => self.refuse(
                &place,
                "dates and times are not allowed here",
                &format!("write it as a text: \"{datetime}\""),
            ),
        };
        plain.map(|value| Element { value: ElementValue::Plain(value), place })
    }

    fn refuse(&mut self, place: &Place, message: &str, hint: &str) -> Option<Value> {
        self.findings.push(Finding::error(Code::RefusedValue, place.clone(), message).hint(hint));
        None
    }
}

/// The keys of one table, taken one after the other; what is left over is unknown.
pub(crate) struct Fields<'n> {
    entries: Vec<(&'n str, &'n Place, &'n Element)>,
    known: Vec<&'static str>,
    /// The keys that the table is listed with, where it is.
    listed: &'static [Key],
    /// The position of the table.
    pub place: &'n Place,
}

impl<'n> Fields<'n> {
    /// Opens a node as a table; says so if it is none.
    pub fn open(element: &'n Element, what: &str, findings: &mut Vec<Finding>) -> Option<Self> {
        match &element.value {
            ElementValue::Table(entries) => {
                let entries =
                    entries.iter().map(|(key, place, element)| (key.as_str(), place, element)).collect();
                Some(Self { entries, known: Vec::with_capacity(24), listed: &[], place: &element.place })
            }
            _ => {
                findings.push(Finding::error(
                    Code::WrongValue,
                    element.place.clone(),
                    format!("{what} is a table, and this is {}", type_word(&element.to_json())),
                ));
                None
            }
        }
    }

    /// Opens a node as a table whose keys are listed; says so if it is none.
    pub fn open_listed(
        element: &'n Element,
        what: &str,
        listed: &'static [Key],
        findings: &mut Vec<Finding>,
    ) -> Option<Self> {
        Self::open(element, what, findings).map(|fields| Self { listed, ..fields })
    }

    /// Takes a key, if it is there.
    pub fn take(&mut self, name: &'static str) -> Option<&'n Element> {
        debug_assert!(
            self.listed.is_empty() || self.listed.iter().any(|key| key.name == name),
            "`{name}` is read and not in the list of keys"
        );
        self.known.push(name);
        let at = self.entries.iter().position(|(key, _, _)| *key == name)?;
        Some(self.entries.remove(at).2)
    }

    /// Takes a key that must be there.
    pub fn require(
        &mut self,
        name: &'static str,
        what: &str,
        findings: &mut Vec<Finding>,
    ) -> Option<&'n Element> {
        let value = self.take(name);
        if value.is_none() {
            findings.push(Finding::error(
                Code::MissingKey,
                self.place.clone(),
                format!("{what} has no `{name}`"),
            ));
        }
        value
    }

    /// Takes a text, if the key is there.
    pub fn text(&mut self, name: &'static str, findings: &mut Vec<Finding>) -> Option<(&'n str, &'n Place)> {
        let element = self.take(name)?;
        match element.as_str() {
            Some(text) => Some((text, &element.place)),
            None => {
                wrong_type(name, "a text", element, findings);
                None
            }
        }
    }

    /// Takes a list of texts; none if the key is not there.
    pub fn texts(&mut self, name: &'static str, findings: &mut Vec<Finding>) -> Vec<(&'n str, &'n Place)> {
        let Some(element) = self.take(name) else { return Vec::new() };
        let ElementValue::List(items) = &element.value else {
            wrong_type(name, "a list of texts", element, findings);
            return Vec::new();
        };
        let mut texts = Vec::new();
        for item in items {
            match item.as_str() {
                Some(text) => texts.push((text, &item.place)),
                None => wrong_type(name, "a list of texts", item, findings),
            }
        }
        texts
    }

    /// Takes a boolean, if the key is there.
    pub fn boolean(&mut self, name: &'static str, findings: &mut Vec<Finding>) -> Option<bool> {
        let element = self.take(name)?;
        match element.value {
            ElementValue::Plain(Value::Bool(boolean)) => Some(boolean),
            _ => {
                wrong_type(name, "`true` or `false`", element, findings);
                None
            }
        }
    }

    /// Takes one of several words, if the key is there.
    pub fn word<T: Copy>(
        &mut self,
        name: &'static str,
        words: &[(&'static str, T)],
        findings: &mut Vec<Finding>,
    ) -> Option<T> {
        let (text, place) = self.text(name, findings)?;
        let found = words.iter().find(|(word, _)| *word == text).map(|(_, value)| *value);
        if found.is_none() {
            let all: Vec<String> = words.iter().map(|(word, _)| format!("`{word}`")).collect();
            let hint = nearest_word(text, words.iter().map(|(word, _)| *word))
                .map(|word| format!("did you mean `{word}`?"));
            findings.push(
                Finding::error(
                    Code::WrongValue,
                    place.clone(),
                    format!("`{name}` is one of {}, and this is `{text}`", all.join(", ")),
                )
                .maybe_hint(hint),
            );
        }
        found
    }

    /// Returns what was not taken.
    pub fn rest(self) -> Vec<(&'n str, &'n Place, &'n Element)> {
        self.entries
    }

    /// Says of every key that was not taken that it is unknown.
    pub fn finish(self, what: &str, findings: &mut Vec<Finding>) {
        for (key, place, _) in &self.entries {
            let hint =
                nearest_word(key, self.known.iter().copied()).map(|word| format!("did you mean `{word}`?"));
            let hint = hint.unwrap_or_else(|| format!("{what} takes {}", self.known.join(", ")));
            findings.push(
                Finding::error(Code::UnknownKey, (*place).clone(), format!("{what} has no key `{key}`"))
                    .hint(hint),
            );
        }
    }
}

pub(crate) fn wrong_type(name: &str, wanted: &str, element: &Element, findings: &mut Vec<Finding>) {
    findings.push(Finding::error(
        Code::WrongValue,
        element.place.clone(),
        format!("`{name}` takes {wanted}, and this is {}", type_word(&element.to_json())),
    ));
}

/// A value of a document with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Its position.
    pub place: Place,
}

pub(crate) fn located(texts: &[(&str, &Place)]) -> Vec<Located<String>> {
    texts.iter().map(|(text, place)| Located { value: (*text).to_owned(), place: (*place).clone() }).collect()
}

pub(crate) fn owned(texts: &[(&str, &Place)]) -> Vec<String> {
    texts.iter().map(|(text, _)| (*text).to_owned()).collect()
}

pub(crate) fn located_text(text: Option<(&str, &Place)>) -> Option<Located<String>> {
    text.map(|(text, place)| Located { value: text.to_owned(), place: place.clone() })
}
