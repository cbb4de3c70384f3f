//! One key of a TOML text; comments and layout stay.

use super::{PartError, at_key, no_map};
use serde_json::Value;
use toml_edit::{Array, DocumentMut, InlineTable, Item, TableLike};

/// Returns the value of a key.
pub fn read(text: &str, key: &[&str]) -> Result<Option<Value>, PartError> {
    at_key(&whole(text)?, key)
}

/// Returns the whole text as a value.
pub fn whole(text: &str) -> Result<Value, PartError> {
    toml::from_str(text).map_err(|error| not_toml(error.message()))
}

/// Returns the text with the key set.
pub fn write(text: &str, key: &[&str], value: &Value) -> Result<String, PartError> {
    let mut document = parse(text)?;
    let (name, way) = key.split_last().expect("a key has a name");
    let mut table: &mut dyn TableLike = document.as_table_mut();
    let mut is_inline = false;
    for (depth, step) in way.iter().enumerate() {
        // In a table on one line only such tables are allowed.
        let missing = || if is_inline { Item::Value(InlineTable::new().into()) } else { toml_edit::table() };
        let item = table.entry(step).or_insert_with(missing);
        is_inline |= item.is_inline_table();
        table = item.as_table_like_mut().ok_or_else(|| no_map(key, depth))?;
    }
    let mut new = toml_value(value)?;
    if let Some(old) = table.get(name).and_then(Item::as_value) {
        *new.decor_mut() = old.decor().clone();
    }
    match table.get_mut(name) {
        Some(item) => *item = Item::Value(new),
        None => drop(table.insert(name, Item::Value(new))),
    }
    Ok(ending_as(document.to_string(), text))
}

/// Returns the text without the key.
pub fn remove(text: &str, key: &[&str]) -> Result<String, PartError> {
    let mut document = parse(text)?;
    let (name, way) = key.split_last().expect("a key has a name");
    let mut table: &mut dyn TableLike = document.as_table_mut();
    for (depth, step) in way.iter().enumerate() {
        match table.get_mut(step) {
            Some(inner) => table = inner.as_table_like_mut().ok_or_else(|| no_map(key, depth))?,
            None => return Ok(text.to_owned()),
        }
    }
    Ok(match table.remove(name) {
        Some(_) => ending_as(document.to_string(), text),
        None => text.to_owned(),
    })
}

/// Returns a text with lines that end as they did before: a document is always written with line feeds, one at its end too.
fn ending_as(mut written: String, before: &str) -> String {
    if !before.is_empty() && !before.ends_with('\n') && written.ends_with('\n') {
        written.pop();
    }
    let is_with_returns =
        before.contains('\n') && before.matches('\n').count() == before.matches("\r\n").count();
    if is_with_returns { written.replace('\n', "\r\n") } else { written }
}

fn parse(text: &str) -> Result<DocumentMut, PartError> {
    text.parse().map_err(|error: toml_edit::TomlError| not_toml(error.message()))
}

fn not_toml(message: &str) -> PartError {
    PartError::new(format!("the file is not TOML: {message}")).hint("fix the file by hand first")
}

fn toml_value(value: &Value) -> Result<toml_edit::Value, PartError> {
    Ok(match value {
        Value::Null => return Err(PartError::new("TOML has no null")),
        Value::Bool(boolean) => (*boolean).into(),
        Value::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64().unwrap_or_default().into(),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(items) => items.iter().map(toml_value).collect::<Result<Array, _>>()?.into(),
        Value::Object(map) => {
            let mut table = InlineTable::new();
            for (name, value) in map {
                table.insert(name, toml_value(value)?);
            }
            table.into()
        }
    })
}
