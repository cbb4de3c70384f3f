//! One key of a YAML text. The text is read into its nodes with their places, and only the place of the key is written
//! again; comments and layout stay.

use super::{PartError, at_key, line_end, no_map};
use saphyr_parser::{Event, Parser, ScalarStyle, Span};
use serde_json::{Map, Value, json};
use std::ops::Range;

/// How deep nodes may be nested.
const DEEPEST: usize = 64;

/// A node of the text and its position, in bytes.
struct Node {
    at: Range<usize>,
    /// The column of its beginning, from 0.
    column: usize,
    value: Is,
}

enum Is {
    Plain(Value),
    /// A text over several lines, `|` or `>`.
    Block(Value),
    List(Vec<Node>),
    Map(Vec<(Node, Node)>),
    /// An alias of another place of the text, or what carries a tag: read, never written.
    Alias,
}

impl Node {
    fn to_value(&self) -> Result<Value, PartError> {
        Ok(match &self.value {
            Is::Plain(value) | Is::Block(value) => value.clone(),
            Is::List(items) => Value::Array(items.iter().map(Self::to_value).collect::<Result<_, _>>()?),
            Is::Map(entries) => {
                let mut map = Map::new();
                for (key, value) in entries {
                    if map.insert(key.name()?, value.to_value()?).is_some() {
                        return Err(PartError::new(format!(
                            "the key {} occurs twice in one map",
                            key.name()?
                        )));
                    }
                }
                Value::Object(map)
            }
            Is::Alias => json!({ "constans_alias": self.at.start }),
        })
    }

    fn name(&self) -> Result<String, PartError> {
        match &self.value {
            Is::Plain(Value::String(name)) => Ok(name.clone()),
            Is::Plain(value) => Ok(value.to_string()),
            _ => Err(PartError::new("the file has a map with a key that is not a text")),
        }
    }
}

/// Returns the value of a key.
pub fn read(text: &str, key: &[&str]) -> Result<Option<Value>, PartError> {
    at_key(&whole(text)?, key)
}

/// Returns the whole text as a value.
pub fn whole(text: &str) -> Result<Value, PartError> {
    parse(text)?.map_or(Ok(Value::Null), |node| node.to_value())
}

/// Returns the text with the key set.
pub fn write(text: &str, key: &[&str], value: &Value) -> Result<String, PartError> {
    let Some(root) = parse(text)? else {
        let separator = if text.is_empty() || text.ends_with('\n') { "" } else { line_end(text) };
        return Ok(format!("{text}{separator}{}", block(key, value, 0, line_end(text))));
    };
    let mut node = &root;
    for depth in 0..key.len() {
        let Is::Map(entries) = &node.value else { return Err(no_map(key, depth.saturating_sub(1))) };
        let Some((name, inner)) = find(entries, key[depth])? else {
            return insert(text, node, entries, &key[depth..], value);
        };
        if depth + 1 == key.len() {
            return replace(text, name, inner, &inline(value));
        }
        if matches!(inner.value, Is::Plain(Value::Null)) {
            // `name:` with nothing after it: what is nested is written on the next lines.
            let lines = block(&key[depth + 1..], value, name.column + 2, line_end(text));
            let end = end_of_line(text, name.at.end);
            return Ok(format!(
                "{}{}{lines}{}",
                &text[..end],
                if text[..end].ends_with('\n') { "" } else { line_end(text) },
                &text[end..]
            ));
        }
        node = inner;
    }
    Err(PartError::new("the key names nothing"))
}

/// Returns the text without the key.
pub fn remove(text: &str, key: &[&str]) -> Result<String, PartError> {
    let Some(root) = parse(text)? else { return Ok(text.to_owned()) };
    let mut node = &root;
    let mut holder: Option<&Node> = None;
    for (depth, step) in key.iter().enumerate() {
        let Is::Map(entries) = &node.value else { return Err(no_map(key, depth.saturating_sub(1))) };
        let Some((name, inner)) = find(entries, step)? else { return Ok(text.to_owned()) };
        if depth + 1 < key.len() {
            (holder, node) = (Some(name), inner);
            continue;
        }
        if is_flow(text, node) {
            return Ok(without_flow_entry(text, name, inner));
        }
        let start = text[..name.at.start].rfind('\n').map_or(0, |at| at + 1);
        if !text[start..name.at.start].trim().is_empty() {
            // Its line has more than the key, as after an anchor or a tag: that would go with it.
            return Err(PartError::new("the key shares its line with other parts of the file")
                .hint("write it in block style, or manage the whole file"));
        }
        let without =
            format!("{}{}", &text[..start], &text[end_of_line(text, inner.at.end.max(name.at.end))..]);
        return Ok(match holder {
            // The last key of a map: what holds it keeps an empty map.
            Some(holder) if entries.len() == 1 => {
                let end = text[holder.at.end..].find(':').map_or(holder.at.end, |at| holder.at.end + at + 1);
                format!("{} {{}}{}", &without[..end], &without[end..])
            }
            _ => without,
        });
    }
    Ok(text.to_owned())
}

fn find<'n>(entries: &'n [(Node, Node)], wanted: &str) -> Result<Option<(&'n Node, &'n Node)>, PartError> {
    for (name, value) in entries {
        if name.name()? == wanted {
            return Ok(Some((name, value)));
        }
    }
    Ok(None)
}

/// Puts a new value in the place of an old one.
fn replace(text: &str, name: &Node, old: &Node, new: &str) -> Result<String, PartError> {
    match &old.value {
        Is::Alias => {
            Err(PartError::new("the value is an alias or has a tag").hint("change that place by hand"))
        }
        Is::Plain(Value::Null) if old.at.is_empty() => {
            let colon = text[name.at.end..].find(':').map_or(name.at.end, |at| name.at.end + at + 1);
            Ok(format!("{} {new}{}", &text[..colon], &text[colon..]))
        }
        Is::Plain(_) => Ok(format!("{}{new}{}", &text[..old.at.start], &text[old.at.end..])),
        _ if is_flow(text, old) => Ok(format!("{}{new}{}", &text[..old.at.start], &text[old.at.end..])),
        _ => {
            let colon = text[name.at.end..].find(':').map_or(name.at.end, |at| name.at.end + at + 1);
            let end = text[..old.at.end].trim_end().len().max(colon);
            Ok(format!("{} {new}{}", &text[..colon], &text[end..]))
        }
    }
}

/// Puts a new key after the last one of a map.
fn insert(
    text: &str,
    map: &Node,
    entries: &[(Node, Node)],
    key: &[&str],
    value: &Value,
) -> Result<String, PartError> {
    if is_flow(text, map) {
        let inside = map.at.end - 1;
        let separator = if entries.is_empty() { "" } else { ", " };
        let nested = key[1..].iter().rev().fold(value.clone(), |value, name| json!({ *name: value }));
        return Ok(format!(
            "{}{separator}{}: {}{}",
            &text[..inside].trim_end(),
            scalar(key[0]),
            inline(&nested),
            &text[inside..]
        ));
    }
    let Some((name, last)) = entries.last() else { return Err(PartError::new("the map cannot be read")) };
    let column = entries[0].0.column;
    let end = text[..last.at.end.max(name.at.end)].trim_end().len();
    let end = end_of_line(text, end);
    let separator = if text[..end].ends_with('\n') { "" } else { line_end(text) };
    Ok(format!("{}{separator}{}{}", &text[..end], block(key, value, column, line_end(text)), &text[end..]))
}

fn without_flow_entry(text: &str, name: &Node, value: &Node) -> String {
    let end = value.at.end.max(name.at.end);
    let rest = &text[end..];
    if let Some(after) = rest.trim_start().strip_prefix(',') {
        return format!("{}{}", &text[..name.at.start], after.trim_start());
    }
    let before = text[..name.at.start].trim_end();
    format!("{}{rest}", before.strip_suffix(',').unwrap_or(before))
}

fn is_flow(text: &str, node: &Node) -> bool {
    matches!(node.value, Is::List(_) | Is::Map(_)) && text[node.at.start..].starts_with(['{', '['])
}

fn end_of_line(text: &str, from: usize) -> usize {
    text[from..].find('\n').map_or(text.len(), |at| from + at + 1)
}

/// Writes a key with its way as lines of their own.
fn block(key: &[&str], value: &Value, column: usize, end: &str) -> String {
    let last = key.len() - 1;
    let line = |depth: usize| {
        let indent = " ".repeat(column + 2 * depth);
        if depth == last {
            format!("{indent}{}: {}{end}", scalar(key[depth]), inline(value))
        } else {
            format!("{indent}{}:{end}", scalar(key[depth]))
        }
    };
    (0..key.len()).map(line).collect()
}

/// Writes a value on one line: JSON is YAML, too.
fn inline(value: &Value) -> String {
    match value {
        Value::String(text) => scalar(text),
        Value::Array(items) => format!("[{}]", items.iter().map(inline).collect::<Vec<_>>().join(", ")),
        Value::Object(map) => {
            let entries: Vec<String> =
                map.iter().map(|(name, value)| format!("{}: {}", scalar(name), inline(value))).collect();
            format!("{{{}}}", entries.join(", "))
        }
        other => other.to_string(),
    }
}

/// Writes a text without quotes only where nothing can take it for anything else.
fn scalar(text: &str) -> String {
    let plain = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '/')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || "_./-".contains(c))
        && !["true", "false", "null", "yes", "no", "on", "off", "y", "n"]
            .contains(&text.to_lowercase().as_str());
    if plain { text.to_owned() } else { Value::from(text).to_string() }
}

fn parse(text: &str) -> Result<Option<Node>, PartError> {
    let offsets: Vec<usize> = text.char_indices().map(|(at, _)| at).chain([text.len()]).collect();
    let mut reader = Reader { events: Parser::new_from_str(text), offsets, text };
    let mut root = None;
    loop {
        match reader.next()? {
            (Event::StreamEnd, _) => return Ok(root),
            (Event::DocumentStart(_), _) if root.is_some() => {
                return Err(PartError::new("the file holds several YAML documents")
                    .hint("manage the whole file with a `file` clause"));
            }
            (Event::DocumentStart(_), _) => {
                let (event, span) = reader.next()?;
                let node = reader.node(event, span, 0)?;
                root = (!matches!(node.value, Is::Plain(Value::Null))).then_some(node);
            }
            _ => {}
        }
    }
}

struct Reader<'t> {
    events: Parser<'t, saphyr_parser::StrInput<'t>>,
    /// Where each character begins, in bytes.
    offsets: Vec<usize>,
    text: &'t str,
}

impl<'t> Reader<'t> {
    fn next(&mut self) -> Result<(Event<'t>, Span), PartError> {
        match self.events.next() {
            Some(Ok(event)) => Ok(event),
            Some(Err(error)) => {
                Err(PartError::new(format!("the file is not YAML: {error}"))
                    .hint("fix the file by hand first"))
            }
            None => Ok((Event::StreamEnd, Span::default())),
        }
    }

    fn bytes(&self, span: Span) -> Range<usize> {
        let at = |index: usize| self.offsets.get(index).copied().unwrap_or(self.text.len());
        at(span.start.index())..at(span.end.index())
    }

    fn node(&mut self, event: Event<'t>, span: Span, depth: usize) -> Result<Node, PartError> {
        if depth > DEEPEST {
            return Err(PartError::new(format!("the file is nested deeper than {DEEPEST}")));
        }
        let mut at = self.bytes(span);
        let value = match event {
            Event::Alias(_) | Event::Scalar(_, _, _, Some(_)) => Is::Alias,
            Event::Scalar(text, ScalarStyle::Plain, ..) => Is::Plain(plain_value(&text)),
            Event::Scalar(text, ScalarStyle::Literal | ScalarStyle::Folded, ..) => {
                Is::Block(Value::from(text.into_owned()))
            }
            Event::Scalar(text, ..) => Is::Plain(Value::from(text.into_owned())),
            Event::SequenceStart(..) => {
                let mut items = Vec::new();
                loop {
                    let (event, span) = self.next()?;
                    if matches!(event, Event::SequenceEnd) {
                        at.end = self.end_of(span, &at, items.last().map(|item: &Node| item.at.end))?;
                        break Is::List(items);
                    }
                    items.push(self.node(event, span, depth + 1)?);
                }
            }
            Event::MappingStart(..) => {
                let mut entries: Vec<(Node, Node)> = Vec::new();
                loop {
                    let (event, span) = self.next()?;
                    if matches!(event, Event::MappingEnd) {
                        at.end = self.end_of(
                            span,
                            &at,
                            entries.last().map(|(name, value)| name.at.end.max(value.at.end)),
                        )?;
                        break Is::Map(entries);
                    }
                    let name = self.node(event, span, depth + 1)?;
                    let (event, span) = self.next()?;
                    entries.push((name, self.node(event, span, depth + 1)?));
                }
            }
            _ => return Err(PartError::new("the file cannot be read as YAML")),
        };
        Ok(Node { at, column: span.start.col(), value })
    }

    /// Returns where a collection ends: after its bracket, whatever comment follows that, or with the last thing in it.
    ///
    /// # Errors
    ///
    /// Returns that no bracket is where it should be: then nothing can be edited safely.
    fn end_of(&self, span: Span, at: &Range<usize>, last: Option<usize>) -> Result<usize, PartError> {
        if !self.text[at.start..].starts_with(['{', '[']) {
            return Ok(last.unwrap_or(at.end));
        }
        let bracket = self.bytes(span).start;
        match self.text[bracket..].starts_with(['}', ']']) {
            true => Ok(bracket + 1),
            false => Err(PartError::new("the end of a map or list in brackets cannot be determined")
                .hint("write it in block style, or manage the whole file")),
        }
    }
}

/// Returns the value of a text without quotes, by YAML's core schema.
fn plain_value(text: &str) -> Value {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null,
        "true" | "True" | "TRUE" => Value::Bool(true),
        "false" | "False" | "FALSE" => Value::Bool(false),
        _ => {
            let number = text.starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c));
            if let (true, Ok(whole)) = (number, text.parse::<i64>()) {
                return json!(whole);
            }
            match text.parse::<f64>() {
                Ok(fraction) if number && fraction.is_finite() => json!(fraction),
                _ => Value::from(text),
            }
        }
    }
}
