//! Parameters of baselines: their declarations, and their values with the layer each comes from.

use crate::kind::nearest_word;
use crate::kind_type_word;
use crate::kit::document::{Fields, wrong_type};
use crate::kit::{Code, Finding, Located, Node, NodeValue, Place};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// A declared parameter.
#[derive(Debug, Clone)]
pub struct Parameter {
    /// Its name, with its place.
    pub name: Located<String>,
    /// What values it takes.
    pub value_type: ParameterType,
    /// Its default.
    pub default: Option<Located<Value>>,
    /// The smallest value.
    pub min: Option<f64>,
    /// The largest value.
    pub max: Option<f64>,
    /// The only values that it takes, if they are listed.
    pub one_of: Vec<Value>,
    /// What it means.
    pub note: Option<String>,
}

/// The type of a parameter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words say it")]
pub enum ParameterType {
    String,
    Integer,
    Number,
    Boolean,
    List(Option<ItemType>),
    Map(Option<ItemType>),
}

/// The type of the items of a list or a map.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words say it")]
pub enum ItemType {
    String,
    Integer,
    Number,
    Boolean,
}

/// Where a value comes from; a later layer replaces an earlier one whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "layer", content = "name")]
pub enum Layer {
    /// The baseline's own default.
    Default,
    /// The stage of the node.
    Stage(String),
    /// A group of the node.
    Group(String),
    /// The node itself.
    Node,
    /// `--set` on the command line.
    CommandLine,
}

/// A parameter's value on one node, with its origin.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ParameterValue {
    /// The value.
    pub value: Value,
    /// The layer it comes from.
    #[serde(flatten)]
    pub from: Layer,
}

/// A value given by a layer, with the place to name if it does not fit.
#[derive(Debug, Clone, PartialEq)]
pub struct Given {
    /// The value.
    pub value: Value,
    /// The layer.
    pub layer: Layer,
}

/// Reads the `[params]` of a baseline.
pub(crate) fn read_declarations(node: &Node, findings: &mut Vec<Finding>) -> Vec<Parameter> {
    let NodeValue::Table(entries) = &node.value else {
        wrong_type("params", "a table of parameters", node, findings);
        return Vec::new();
    };
    entries.iter().filter_map(|(name, place, node)| read_declaration(name, place, node, findings)).collect()
}

fn read_declaration(name: &str, place: &Place, node: &Node, findings: &mut Vec<Finding>) -> Option<Parameter> {
    let what = format!("[params.{name}]");
    let mut fields = Fields::open(node, &what, findings)?;
    if !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') || !name.starts_with(|c: char| c.is_ascii_lowercase()) {
        findings.push(
            Finding::error(Code::WrongValue, place.clone(), format!("`{name}` is no name of a parameter"))
                .hint("names have lower-case letters, digits and `_`, and begin with a letter"),
        );
    }
    let items = fields.word("of", ITEM_TYPES, findings);
    let value_type = read_type(&mut fields, items, &what, findings);
    let mut number = |key: &'static str, findings: &mut Vec<Finding>| {
        let node = fields.take(key)?;
        let number = node.to_json().as_f64();
        if number.is_none() {
            wrong_type(key, "a number", node, findings);
        }
        number
    };
    let (min, max) = (number("min", findings), number("max", findings));
    let one_of = fields.take("one_of").map(|node| node.to_json().as_array().cloned().unwrap_or_default()).unwrap_or_default();
    if let Some(node) = fields.take("pattern") {
        findings.push(
            Finding::error(Code::NotYet, node.place.clone(), "`pattern` belongs to the language, and this version of Constans does not read it yet")
                .hint("list the values in one_of, or leave it out for now"),
        );
    }
    let default = fields.take("default").map(|node| Located { value: node.to_json(), place: node.place.clone() });
    let note = fields.text("note", findings).map(|(text, _)| text.to_owned());
    fields.finish(&what, findings);
    let parameter =
        Parameter { name: Located { value: name.to_owned(), place: place.clone() }, value_type: value_type?, default, min, max, one_of, note };
    if let Some(default) = &parameter.default
        && let Err(reason) = parameter.accepts(&default.value)
    {
        findings.push(Finding::error(Code::ParameterValue, default.place.clone(), reason));
    }
    Some(parameter)
}

const ITEM_TYPES: &[(&str, ItemType)] =
    &[("string", ItemType::String), ("integer", ItemType::Integer), ("number", ItemType::Number), ("boolean", ItemType::Boolean)];

fn read_type(fields: &mut Fields<'_>, items: Option<ItemType>, what: &str, findings: &mut Vec<Finding>) -> Option<ParameterType> {
    let Some((word, place)) = fields.text("type", findings) else {
        findings.push(
            Finding::error(Code::MissingKey, fields.place.clone(), format!("{what} has no `type`"))
                .hint("types are string, integer, number, boolean, list, map"),
        );
        return None;
    };
    let value_type = match word {
        "string" => ParameterType::String,
        "integer" => ParameterType::Integer,
        "number" => ParameterType::Number,
        "boolean" => ParameterType::Boolean,
        "list" => ParameterType::List(items),
        "map" => ParameterType::Map(items),
        "secret" => {
            findings.push(Finding::error(
                Code::NotYet,
                place.clone(),
                "`secret` belongs to the language, and this version of Constans does not read it yet",
            ));
            return None;
        }
        other => {
            let hint = nearest_word(other, ["string", "integer", "number", "boolean", "list", "map"]).map(|word| format!("did you mean `{word}`?"));
            findings.push(
                Finding::error(Code::WrongValue, place.clone(), format!("unknown type `{other}`"))
                    .maybe_hint(hint.or_else(|| Some("types are string, integer, number, boolean, list, map".into()))),
            );
            return None;
        }
    };
    Some(value_type)
}

impl Parameter {
    /// Says why a value does not fit, one fact; `Ok` if it does.
    ///
    /// # Errors
    ///
    /// Returns what is wrong, with the parameter's name.
    pub fn accepts(&self, value: &Value) -> Result<(), String> {
        let name = &self.name.value;
        if !self.value_type.takes(value) {
            return Err(format!("`{name}` takes {}, and this is {}", self.value_type.words(), kind_type_word(value)));
        }
        if let Some(number) = value.as_f64() {
            if let Some(min) = self.min.filter(|min| number < *min) {
                return Err(format!("`{name}` is at least {min}, and this is {number}"));
            }
            if let Some(max) = self.max.filter(|max| number > *max) {
                return Err(format!("`{name}` is at most {max}, and this is {number}"));
            }
        }
        if !self.one_of.is_empty() && !self.one_of.contains(value) {
            let all: Vec<String> = self.one_of.iter().map(Value::to_string).collect();
            return Err(format!("`{name}` is one of {}, and this is {value}", all.join(", ")));
        }
        Ok(())
    }

    /// Reads a value as a person writes it after `--set NAME=`: a string as it is, everything else as in a document.
    ///
    /// # Errors
    ///
    /// Returns why it is no value of this parameter.
    pub fn read_argument(&self, text: &str) -> Result<Value, String> {
        let value = match self.value_type {
            ParameterType::String => json!(text),
            _ => toml_value(text)
                .ok_or_else(|| format!("`{}` takes {}, and `{text}` cannot be read as one", self.name.value, self.value_type.words()))?,
        };
        self.accepts(&value).map(|()| value)
    }

    /// Returns a value of the right type, for checking documents whose parameter has no default.
    pub(crate) fn sample(&self) -> Value {
        if let Some(first) = self.one_of.first() {
            return first.clone();
        }
        match self.value_type {
            ParameterType::String => json!("sample"),
            #[expect(clippy::cast_possible_truncation, reason = "a sample need not be exact")]
            ParameterType::Integer => json!(self.min.map_or(1, |min| min.ceil() as i64)),
            ParameterType::Number => json!(self.min.unwrap_or(1.0)),
            ParameterType::Boolean => json!(true),
            ParameterType::List(_) => json!([]),
            ParameterType::Map(_) => json!({}),
        }
    }
}

fn toml_value(text: &str) -> Option<Value> {
    let table: toml::Table = toml::from_str(&format!("value = {text}")).ok()?;
    serde_json::to_value(table.get("value")?).ok()
}

impl ParameterType {
    fn takes(self, value: &Value) -> bool {
        match self {
            Self::String => value.is_string(),
            Self::Integer => value.is_i64() || value.is_u64(),
            Self::Number => value.is_number(),
            Self::Boolean => value.is_boolean(),
            Self::List(items) => value.as_array().is_some_and(|list| list.iter().all(|item| items.is_none_or(|items| items.takes(item)))),
            Self::Map(items) => value.as_object().is_some_and(|map| map.values().all(|item| items.is_none_or(|items| items.takes(item)))),
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::String => "a text",
            Self::Integer => "an integer",
            Self::Number => "a number",
            Self::Boolean => "`true` or `false`",
            Self::List(None) => "a list",
            Self::List(Some(_)) => "a list of one type",
            Self::Map(None) => "a map",
            Self::Map(Some(_)) => "a map of one type",
        }
    }
}

impl ItemType {
    fn takes(self, value: &Value) -> bool {
        match self {
            Self::String => ParameterType::String,
            Self::Integer => ParameterType::Integer,
            Self::Number => ParameterType::Number,
            Self::Boolean => ParameterType::Boolean,
        }
        .takes(value)
    }
}

/// Puts the layers over the defaults; `given` is ordered from the lowest layer to the highest, by parameter.
///
/// # Errors
///
/// Returns a finding for every parameter that has no value, is not declared, or whose value does not fit.
pub fn resolve(
    declared: &[Parameter],
    given: &BTreeMap<String, Vec<Given>>,
    baseline: &Place,
) -> Result<BTreeMap<String, ParameterValue>, Vec<Finding>> {
    let mut findings = Vec::new();
    let mut values = BTreeMap::new();
    for parameter in declared {
        let name = &parameter.name.value;
        let top = given.get(name).and_then(|layers| layers.last());
        let value = match (top, &parameter.default) {
            (Some(given), _) => ParameterValue { value: given.value.clone(), from: given.layer.clone() },
            (None, Some(default)) => ParameterValue { value: default.value.clone(), from: Layer::Default },
            (None, None) => {
                findings.push(
                    Finding::error(Code::MissingParameter, parameter.name.place.clone(), format!("`{name}` has no value"))
                        .hint(format!("give it one with --set {name}=…, or a default")),
                );
                continue;
            }
        };
        match parameter.accepts(&value.value) {
            Ok(()) => drop(values.insert(name.clone(), value)),
            Err(reason) => findings.push(Finding::error(Code::ParameterValue, parameter.name.place.clone(), reason)),
        }
    }
    for name in given.keys().filter(|name| !declared.iter().any(|parameter| parameter.name.value == **name)) {
        let hint = nearest_word(name, declared.iter().map(|parameter| parameter.name.value.as_str())).map(|word| format!("did you mean `{word}`?"));
        findings.push(Finding::error(Code::UnknownParameter, baseline.clone(), format!("the baseline has no parameter `{name}`")).maybe_hint(hint));
    }
    if findings.is_empty() { Ok(values) } else { Err(findings) }
}

/// Returns the values alone, as renders and conditions see them.
pub fn plain(values: &BTreeMap<String, ParameterValue>) -> Value {
    Value::Object(values.iter().map(|(name, value)| (name.clone(), value.value.clone())).collect::<Map<_, _>>())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parameter(value_type: ParameterType) -> Parameter {
        let place = Place::of_file("b.toml");
        Parameter { name: Located { value: "idle".into(), place }, value_type, default: None, min: Some(10.0), max: None, one_of: vec![], note: None }
    }

    #[test]
    fn arguments_are_read_by_the_declared_type() {
        assert_eq!(parameter(ParameterType::Integer).read_argument("90"), Ok(json!(90)));
        assert_eq!(parameter(ParameterType::String).read_argument("90"), Ok(json!("90")));
        assert_eq!(parameter(ParameterType::List(None)).read_argument("[\"A\", \"B\"]"), Ok(json!(["A", "B"])));
        assert_eq!(parameter(ParameterType::Integer).read_argument("soon"), Err("`idle` takes an integer, and `soon` cannot be read as one".into()));
        assert_eq!(parameter(ParameterType::Integer).read_argument("5"), Err("`idle` is at least 10, and this is 5".into()));
    }

    #[test]
    fn the_highest_layer_wins_and_is_remembered() {
        let given = BTreeMap::from([(
            "idle".to_owned(),
            vec![Given { value: json!(20), layer: Layer::Group("kiosks".into()) }, Given { value: json!(30), layer: Layer::Node }],
        )]);
        let values = resolve(&[parameter(ParameterType::Integer)], &given, &Place::of_file("b.toml")).unwrap();
        assert_eq!(values["idle"], ParameterValue { value: json!(30), from: Layer::Node });
    }

    #[test]
    fn all_that_is_wrong_is_said_at_once() {
        let given = BTreeMap::from([("idel".to_owned(), vec![Given { value: json!(1), layer: Layer::CommandLine }])]);
        let findings = resolve(&[parameter(ParameterType::Integer)], &given, &Place::of_file("b.toml")).unwrap_err();
        let messages: Vec<&str> = findings.iter().map(|finding| finding.message.as_str()).collect();
        assert_eq!(messages, ["`idle` has no value", "the baseline has no parameter `idel`"]);
        assert_eq!(findings[1].hint.as_deref(), Some("did you mean `idle`?"));
    }
}
