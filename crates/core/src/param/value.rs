//! Which values a parameter takes.

use super::declaration::{ItemType, Limits, Parameter, ParameterType, SecretName};
use crate::document::type_word;
use crate::filter::MAX_ITEMS;
use serde_json::{Value, json};

impl Parameter {
    /// Says why a value does not fit, one fact; `Ok` if it does. A secret's value is never repeated.
    ///
    /// # Errors
    ///
    /// Returns what is wrong, with the parameter's name.
    pub fn accepts(&self, value: &Value) -> Result<(), String> {
        let name = &self.name.value;
        if self.value_type == ParameterType::Secret {
            let is_name = value.as_str().and_then(SecretName::parse).is_some();
            return if is_name {
                Ok(())
            } else {
                Err(format!(
                    "`{name}` takes a secret's name and version, as \"ops-password@1\", never its value"
                ))
            };
        }
        if !self.value_type.takes(value) {
            return Err(format!(
                "`{name}` takes {}, and this is {}",
                self.value_type.words(),
                what_it_is(self.value_type, value)
            ));
        }
        let items = value
            .as_array()
            .map(Vec::len)
            .or_else(|| value.as_object().map(serde_json::Map::len))
            .unwrap_or(0);
        if items > MAX_ITEMS {
            return Err(format!("`{name}` takes at most {MAX_ITEMS} items, and this has {items}"));
        }
        match value {
            Value::Array(items) => {
                items.iter().try_for_each(|item| self.limits.accept(&format!("each item of `{name}`"), item))
            }
            Value::Object(map) => {
                map.iter().try_for_each(|(key, item)| self.limits.accept(&format!("`{name}.{key}`"), item))
            }
            single => self.limits.accept(&format!("`{name}`"), single),
        }
    }

    /// Returns in words what values it takes: `an integer, at least 10`.
    pub fn takes_words(&self) -> String {
        let Limits { min, max, one_of, pattern } = &self.limits;
        let range = match (min, max) {
            (Some(min), Some(max)) => Some(format!("from {min} to {max}")),
            (Some(min), None) => Some(format!("at least {min}")),
            (None, Some(max)) => Some(format!("at most {max}")),
            (None, None) => None,
        };
        let listed = one_of.iter().map(Value::to_string).collect::<Vec<_>>().join(", ");
        let one_of = (!one_of.is_empty()).then(|| format!("one of {listed}"));
        let pattern = pattern.as_ref().map(|pattern| format!("like {}", pattern.source));
        let type_words = self.value_type.words().to_owned();
        [Some(type_words), range, one_of, pattern].into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// Reads a value as a person writes it after `--set NAME=`: a string as it is, everything else as in a document.
    ///
    /// # Errors
    ///
    /// Returns why it is no value of this parameter.
    pub fn read_argument(&self, text: &str) -> Result<Value, String> {
        let value = match self.value_type {
            ParameterType::String | ParameterType::Secret => json!(text),
            _ => toml_value(text).ok_or_else(|| {
                format!(
                    "`{}` takes {}, and `{text}` cannot be read as one",
                    self.name.value,
                    self.value_type.words()
                )
            })?,
        };
        self.accepts(&value).map(|()| value)
    }

    /// Returns a value of the right type, for checking documents whose parameter has no default.
    pub fn sample(&self) -> Value {
        match self.value_type {
            ParameterType::List(_) => json!([]),
            ParameterType::Map(_) => json!({}),
            ParameterType::Secret => json!("sample@1"),
            single => self.limits.one_of.first().cloned().unwrap_or_else(|| single.sample(&self.limits)),
        }
    }
}

impl Parameter {
    /// Returns what an item of the list or map may look like, if that is declared.
    pub(crate) fn sample_item(&self) -> Option<Value> {
        let first = || self.limits.one_of.first().cloned();
        let item = match self.value_type.of_values()? {
            ItemType::String => first().unwrap_or_else(|| json!("sample")),
            ItemType::Integer => first().unwrap_or_else(|| ParameterType::Integer.sample(&self.limits)),
            ItemType::Number => first().unwrap_or_else(|| ParameterType::Number.sample(&self.limits)),
            ItemType::Boolean => json!(true),
        };
        let is_map = matches!(self.value_type, ParameterType::Map(_));
        Some(if is_map { json!({ "key": "sample", "value": item }) } else { item })
    }
}

impl Limits {
    fn accept(&self, whose: &str, value: &Value) -> Result<(), String> {
        if let Some(number) = value.as_f64() {
            if let Some(min) = self.min.filter(|min| number < *min) {
                return Err(format!("{whose} is at least {min}, and this is {value}"));
            }
            if let Some(max) = self.max.filter(|max| number > *max) {
                return Err(format!("{whose} is at most {max}, and this is {value}"));
            }
        }
        if !self.one_of.is_empty() && !self.one_of.contains(value) {
            let all: Vec<String> = self.one_of.iter().map(Value::to_string).collect();
            return Err(format!("{whose} is one of {}, and this is {value}", all.join(", ")));
        }
        if let (Some(pattern), Some(text)) = (&self.pattern, value.as_str())
            && !pattern.whole.is_match(text)
        {
            return Err(format!("{whose} fits {}, and {value} does not", pattern.source));
        }
        Ok(())
    }
}

fn what_it_is(wanted: ParameterType, value: &Value) -> String {
    let odd = match (wanted.of_values(), value) {
        (Some(items), Value::Array(list)) => {
            list.iter().find(|item| !items.takes(item)).map(|item| format!("a list with {}", type_word(item)))
        }
        (Some(items), Value::Object(map)) => {
            map.values().find(|item| !items.takes(item)).map(|item| format!("a map with {}", type_word(item)))
        }
        _ => None,
    };
    odd.unwrap_or_else(|| type_word(value).to_owned())
}

fn toml_value(text: &str) -> Option<Value> {
    let table: toml::Table = toml::from_str(&format!("value = {text}")).ok()?;
    serde_json::to_value(table.get("value")?).ok()
}

impl ParameterType {
    fn takes(self, value: &Value) -> bool {
        match self {
            Self::String | Self::Secret => value.is_string(),
            Self::Integer => value.is_i64() || value.is_u64(),
            Self::Number => value.is_number(),
            Self::Boolean => value.is_boolean(),
            Self::List(items) => value
                .as_array()
                .is_some_and(|list| list.iter().all(|item| items.is_none_or(|items| items.takes(item)))),
            Self::Map(items) => value
                .as_object()
                .is_some_and(|map| map.values().all(|item| items.is_none_or(|items| items.takes(item)))),
        }
    }

    /// Returns the type of the value itself, or of the items of a list or a map, if it is known.
    pub(super) fn of_values(self) -> Option<ItemType> {
        match self {
            Self::String => Some(ItemType::String),
            Self::Integer => Some(ItemType::Integer),
            Self::Number => Some(ItemType::Number),
            Self::Boolean => Some(ItemType::Boolean),
            Self::List(items) | Self::Map(items) => items,
            Self::Secret => None,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::String => "a text",
            Self::Integer => "an integer",
            Self::Number => "a number",
            Self::Boolean => "`true` or `false`",
            Self::List(None) => "a list",
            Self::List(Some(ItemType::String)) => "a list of texts",
            Self::List(Some(ItemType::Integer)) => "a list of integers",
            Self::List(Some(ItemType::Number)) => "a list of numbers",
            Self::List(Some(ItemType::Boolean)) => "a list of booleans",
            Self::Map(None) => "a map",
            Self::Map(Some(ItemType::String)) => "a map of texts",
            Self::Map(Some(ItemType::Integer)) => "a map of integers",
            Self::Map(Some(ItemType::Number)) => "a map of numbers",
            Self::Map(Some(ItemType::Boolean)) => "a map of booleans",
            Self::Secret => "the name of a secret",
        }
    }

    #[expect(clippy::cast_possible_truncation, reason = "a sample need not be exact")]
    fn sample(self, limits: &Limits) -> Value {
        match self {
            Self::Integer => json!(limits.min.or(limits.max).map_or(1, |bound| bound.ceil() as i64)),
            Self::Number => json!(limits.min.or(limits.max).unwrap_or(1.0)),
            Self::Boolean => json!(true),
            _ => json!("sample"),
        }
    }
}

impl ItemType {
    pub(super) fn takes(self, value: &Value) -> bool {
        match self {
            Self::String => ParameterType::String,
            Self::Integer => ParameterType::Integer,
            Self::Number => ParameterType::Number,
            Self::Boolean => ParameterType::Boolean,
        }
        .takes(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::{Located, Place};

    fn parameter(value_type: ParameterType) -> Parameter {
        let limits = Limits { min: Some(10.0), ..Limits::default() };
        Parameter {
            name: Located { value: "idle".into(), place: Place::of_file("b.toml") },
            value_type,
            default: None,
            limits,
            note: None,
        }
    }

    #[test]
    fn arguments_are_read_by_the_declared_type() {
        assert_eq!(parameter(ParameterType::Integer).read_argument("90"), Ok(json!(90)));
        assert_eq!(parameter(ParameterType::String).read_argument("90"), Ok(json!("90")));
        assert_eq!(
            parameter(ParameterType::List(None)).read_argument("[\"A\", \"B\"]"),
            Ok(json!(["A", "B"]))
        );
        assert_eq!(
            parameter(ParameterType::Integer).read_argument("soon"),
            Err("`idle` takes an integer, and `soon` cannot be read as one".into())
        );
        assert_eq!(
            parameter(ParameterType::Integer).read_argument("5"),
            Err("`idle` is at least 10, and this is 5".into())
        );
    }

    #[test]
    fn limits_hold_for_each_item_and_a_secret_is_never_repeated() {
        let list = parameter(ParameterType::List(Some(ItemType::Integer)));
        assert_eq!(
            list.accepts(&json!([12, 3])),
            Err("each item of `idle` is at least 10, and this is 3".into())
        );
        assert_eq!(
            list.accepts(&json!([12, "x"])),
            Err("`idle` takes a list of integers, and this is a list with a text".into())
        );
        let refused = parameter(ParameterType::Secret).accepts(&json!("Tern-1234")).unwrap_err();
        assert!(!refused.contains("Tern"), "{refused}");
    }
}
