//! One key of a JSON text; comments and layout stay.

use super::{PartError, at_key, no_map};
use jsonc_parser::ParseOptions;
use jsonc_parser::cst::{CstInputValue, CstObject, CstObjectProp, CstRootNode};
use serde_json::Value;

/// Returns the value of a key.
pub fn read(text: &str, key: &[&str]) -> Result<Option<Value>, PartError> {
    at_key(&whole(text)?, key)
}

/// Returns the whole text as a value.
pub fn whole(text: &str) -> Result<Value, PartError> {
    Ok(parse(text)?.to_serde_value().unwrap_or(Value::Null))
}

/// Returns the text with the key set.
pub fn write(text: &str, key: &[&str], value: &Value) -> Result<String, PartError> {
    let root = parse(text)?;
    let (name, way) = key.split_last().expect("a key has a name");
    let mut object =
        root.object_value_or_create().ok_or_else(|| PartError::new("the file is no JSON object"))?;
    for (depth, step) in way.iter().enumerate() {
        let Some(inner) = object.get(step) else {
            // All that is missing comes in at once: one by one, each would be laid out again with every one after it.
            let missing = key[depth + 1..]
                .iter()
                .rfold(input(value), |inner, step| CstInputValue::Object(vec![((*step).to_owned(), inner)]));
            object.append(step, missing);
            return Ok(root.to_string());
        };
        object = inner.object_value().ok_or_else(|| no_map(key, depth))?;
    }
    match object.get(name) {
        Some(there) => there.set_value(input(value)),
        None => drop(object.append(name, input(value))),
    }
    Ok(root.to_string())
}

/// Returns the text without the key.
pub fn remove(text: &str, key: &[&str]) -> Result<String, PartError> {
    let root = parse(text)?;
    if let Some(there) = find(&root, key) {
        there.remove();
    }
    Ok(root.to_string())
}

fn find(root: &CstRootNode, key: &[&str]) -> Option<CstObjectProp> {
    let (name, way) = key.split_last()?;
    let object = way
        .iter()
        .try_fold(root.object_value()?, |object: CstObject, step| object.get(step)?.object_value())?;
    object.get(name)
}

fn parse(text: &str) -> Result<CstRootNode, PartError> {
    let options = ParseOptions {
        allow_missing_commas: false,
        allow_single_quoted_strings: false,
        ..ParseOptions::default()
    };
    CstRootNode::parse(text, &options).map_err(|error| {
        PartError::new(format!("the file is not JSON: {error}")).hint("fix the file by hand first")
    })
}

fn input(value: &Value) -> CstInputValue {
    match value {
        Value::Null => CstInputValue::Null,
        Value::Bool(boolean) => CstInputValue::Bool(*boolean),
        Value::Number(number) => CstInputValue::Number(number.to_string()),
        Value::String(text) => CstInputValue::String(text.clone()),
        Value::Array(items) => CstInputValue::Array(items.iter().map(input).collect()),
        Value::Object(map) => {
            CstInputValue::Object(map.iter().map(|(name, value)| (name.clone(), input(value))).collect())
        }
    }
}
