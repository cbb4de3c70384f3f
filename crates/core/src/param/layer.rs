//! Layers over layers: default, stage, groups by priority, node.
//!
//! A value replaces the one below whole; `{ add = […], remove = […] }` changes the list below, `{ merge = {…} }` the map.

use super::declaration::{Parameter, ParameterType};
use crate::document::{Code, Finding, Place};
use crate::nearest::nearest_word;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Where a value comes from.
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
    /// A case of the kit.
    Case,
}

impl Layer {
    /// Returns it in words.
    pub fn words(&self) -> String {
        match self {
            Self::Default => "the default".to_owned(),
            Self::Stage(name) => format!("the stage `{name}`"),
            Self::Group(name) => format!("the group `{name}`"),
            Self::Node => "the node".to_owned(),
            Self::CommandLine => "--set".to_owned(),
            Self::Case => "the case".to_owned(),
        }
    }
}

/// A parameter's value on one node, with its origin.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ParameterValue {
    /// The value.
    pub value: Value,
    /// The layer it comes from: the highest that had a say.
    #[serde(flatten)]
    pub from: Layer,
    /// The layers below that it adds to, removes from or merges into, the lowest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub over: Vec<Layer>,
}

/// A value given by a layer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LayerValue {
    /// The value, or the change of the one below.
    pub value: Value,
    /// The layer.
    #[serde(flatten)]
    pub layer: Layer,
    /// When that ends; never by itself if none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

impl LayerValue {
    /// A value without end.
    pub fn new(value: Value, layer: Layer) -> Self {
        Self { value, layer, until: None }
    }
}

/// Puts the layers over the defaults; `given` is ordered from the lowest layer to the highest, by parameter.
///
/// # Errors
///
/// Returns a finding for every parameter that has no value, is not declared, or whose value does not fit.
pub fn resolve(
    declared: &[Parameter],
    given: &BTreeMap<String, Vec<LayerValue>>,
    baseline: &Place,
) -> Result<BTreeMap<String, ParameterValue>, Vec<Finding>> {
    let mut findings = Vec::new();
    let mut values = BTreeMap::new();
    for parameter in declared {
        let name = &parameter.name.value;
        match value_of(parameter, given.get(name).map_or(&[], Vec::as_slice)) {
            Ok(Some(value)) => drop(values.insert(name.clone(), value)),
            Ok(None) => findings.push(
                Finding::error(
                    Code::MissingParameter,
                    parameter.name.place.clone(),
                    format!("`{name}` has no value"),
                )
                .hint(format!("set it in a group, with --set {name}=…, or by a default")),
            ),
            Err(reason) => {
                findings.push(Finding::error(Code::ParameterValue, parameter.name.place.clone(), reason));
            }
        }
    }
    for name in given.keys().filter(|name| !declared.iter().any(|parameter| parameter.name.value == **name)) {
        let hint = nearest_word(name, declared.iter().map(|parameter| parameter.name.value.as_str()))
            .map(|word| format!("did you mean `{word}`?"));
        findings.push(
            Finding::error(
                Code::UnknownParameter,
                baseline.clone(),
                format!("the baseline has no parameter `{name}`"),
            )
            .maybe_hint(hint),
        );
    }
    if findings.is_empty() { Ok(values) } else { Err(findings) }
}

fn value_of(parameter: &Parameter, given: &[LayerValue]) -> Result<Option<ParameterValue>, String> {
    let mut value = parameter.default.as_ref().map(|default| ParameterValue {
        value: default.value.clone(),
        from: Layer::Default,
        over: Vec::new(),
    });
    for layer in given {
        let by = |reason: String| format!("{reason} (from {})", layer.layer.words());
        value = Some(match change(parameter, &layer.value).map_err(by)? {
            None => {
                ParameterValue { value: layer.value.clone(), from: layer.layer.clone(), over: Vec::new() }
            }
            Some(change) => change.apply(value, &layer.layer).map_err(by)?,
        });
        // The layer that brings what does not fit is the one to name.
        if let Some(value) = &value {
            parameter.accepts(&value.value).map_err(by)?;
        }
    }
    Ok(value)
}

/// Says why a layer's value does not fit, whatever the layers below it are; a change of the value below is tried on the default.
pub(crate) fn takes(parameter: &Parameter, value: &Value) -> Result<(), String> {
    let Some(change) = change(parameter, value)? else { return parameter.accepts(value) };
    let default = parameter.default.as_ref();
    let below = default.map(|default| ParameterValue {
        value: default.value.clone(),
        from: Layer::Default,
        over: Vec::new(),
    });
    parameter.accepts(&change.apply(below, &Layer::Default)?.value)
}

/// A change of the value below.
enum Change {
    List { add: Vec<Value>, remove: Vec<Value> },
    Map { merge: Map<String, Value> },
}

/// Reads a layer's value as a change of the one below; `None` if it replaces that.
fn change(parameter: &Parameter, value: &Value) -> Result<Option<Change>, String> {
    let name = &parameter.name.value;
    match (parameter.value_type, value) {
        (ParameterType::List(_), Value::Object(table)) => {
            if table.is_empty() || table.keys().any(|key| key != "add" && key != "remove") {
                return Err(format!(
                    "`{name}` is a list: a layer gives a whole list, or a map of `add` and `remove`"
                ));
            }
            let items = |key: &str| match table.get(key) {
                None => Ok(Vec::new()),
                Some(Value::Array(items)) => Ok(items.clone()),
                Some(_) => Err(format!("`{key}` for `{name}` is a list of items")),
            };
            Ok(Some(Change::List { add: items("add")?, remove: items("remove")? }))
        }
        (ParameterType::Map(_), Value::Object(table)) if table.len() == 1 => Ok(table
            .get("merge")
            .and_then(Value::as_object)
            .map(|merge| Change::Map { merge: merge.clone() })),
        _ => Ok(None),
    }
}

impl Change {
    fn apply(self, below: Option<ParameterValue>, layer: &Layer) -> Result<ParameterValue, String> {
        let (value, mut over) = match below {
            Some(below) => (below.value, [below.over, vec![below.from]].concat()),
            None => (Value::Null, Vec::new()),
        };
        over.dedup();
        let value = match self {
            Self::List { add, remove } => {
                let mut list: Vec<Value> = value.as_array().cloned().unwrap_or_default();
                list.retain(|item| !remove.contains(item));
                for item in add {
                    if !list.contains(&item) {
                        list.push(item);
                    }
                }
                json!(list)
            }
            Self::Map { merge } => {
                let mut map = value.as_object().cloned().unwrap_or_default();
                map.extend(merge);
                Value::Object(map)
            }
        };
        Ok(ParameterValue { value, from: layer.clone(), over })
    }
}

/// Returns whether two layers of one rank cannot both have their say: two values, or changes of which one undoes the
/// other's.
pub fn disagree(left: &Value, right: &Value) -> bool {
    if left == right {
        return false;
    }
    let list =
        |value: &Value, key: &str| value.get(key).and_then(Value::as_array).cloned().unwrap_or_default();
    let changes_list = |value: &Value| {
        value.as_object().is_some_and(|table| {
            !table.is_empty()
                && table
                    .iter()
                    .all(|(key, items)| matches!(key.as_str(), "add" | "remove") && items.is_array())
        })
    };
    if changes_list(left) && changes_list(right) {
        let undoes = |one: &Value, other: &Value| {
            list(one, "add").iter().any(|item| list(other, "remove").contains(item))
        };
        return undoes(left, right) || undoes(right, left);
    }
    let merged = |value: &Value| {
        value.as_object().filter(|table| table.len() == 1)?.get("merge")?.as_object().cloned()
    };
    match (merged(left), merged(right)) {
        (Some(left), Some(right)) => {
            left.iter().any(|(key, value)| right.get(key).is_some_and(|other| other != value))
        }
        _ => true,
    }
}

/// Returns the values alone, as renders and conditions see them.
pub fn plain(values: &BTreeMap<String, ParameterValue>) -> Value {
    Value::Object(
        values.iter().map(|(name, value)| (name.clone(), value.value.clone())).collect::<Map<_, _>>(),
    )
}

#[cfg(test)]
mod tests {
    use super::super::declaration::Limits;
    use super::*;
    use crate::document::Located;

    fn parameter(value_type: ParameterType, default: Option<Value>) -> Parameter {
        let place = Place::of_file("b.toml");
        let default = default.map(|value| Located { value, place: place.clone() });
        Parameter {
            name: Located { value: "p".into(), place },
            value_type,
            default,
            limits: Limits::default(),
            note: None,
        }
    }

    fn layers(values: &[Value]) -> BTreeMap<String, Vec<LayerValue>> {
        let names = ["quay", "kiosks", "night-trial"];
        let given = values
            .iter()
            .zip(names)
            .map(|(value, name)| LayerValue::new(value.clone(), Layer::Group(name.into())));
        BTreeMap::from([("p".to_owned(), given.collect())])
    }

    fn resolved(parameter: &Parameter, values: &[Value]) -> Result<ParameterValue, String> {
        let place = Place::of_file("b.toml");
        let mut all = resolve(std::slice::from_ref(parameter), &layers(values), &place)
            .map_err(|findings| findings[0].message.clone())?;
        Ok(all.remove("p").unwrap())
    }

    #[test]
    fn the_highest_layer_wins_and_is_remembered() {
        let value =
            resolved(&parameter(ParameterType::Integer, Some(json!(10))), &[json!(20), json!(30)]).unwrap();
        assert_eq!(
            value,
            ParameterValue { value: json!(30), from: Layer::Group("kiosks".into()), over: vec![] }
        );
    }

    #[test]
    fn lists_are_added_to_and_removed_from_and_remember_whose_they_are() {
        let lanes = parameter(ParameterType::List(None), Some(json!(["A", "B"])));
        let value = resolved(&lanes, &[json!({ "add": ["C", "A"] }), json!({ "remove": ["B"] })]).unwrap();
        let over = vec![Layer::Default, Layer::Group("quay".into())];
        assert_eq!(
            value,
            ParameterValue { value: json!(["A", "C"]), from: Layer::Group("kiosks".into()), over }
        );
        let replaced = resolved(&lanes, &[json!({ "add": ["C"] }), json!(["X"])]).unwrap();
        assert_eq!((replaced.value, replaced.over), (json!(["X"]), vec![]));
    }

    #[test]
    fn maps_are_merged_key_by_key() {
        let ships = parameter(ParameterType::Map(None), Some(json!({ "tern": 1, "puffin": 2 })));
        assert_eq!(
            resolved(&ships, &[json!({ "merge": { "puffin": 3 } })]).unwrap().value,
            json!({ "tern": 1, "puffin": 3 })
        );
        assert_eq!(resolved(&ships, &[json!({ "tern": 9 })]).unwrap().value, json!({ "tern": 9 }));
    }

    #[test]
    fn the_layer_that_brings_what_does_not_fit_is_named() {
        let lanes = parameter(ParameterType::List(Some(super::super::ItemType::String)), Some(json!([])));
        assert_eq!(
            resolved(&lanes, &[json!(["A"]), json!({ "add": [4] })]).unwrap_err(),
            "`p` takes a list of texts, and this is a list with an integer (from the group `kiosks`)"
        );
        assert_eq!(
            resolved(&lanes, &[json!({ "append": ["A"] })]).unwrap_err(),
            "`p` is a list: a layer gives a whole list, or a map of `add` and `remove` (from the group `quay`)"
        );
    }

    #[test]
    fn equal_ranks_disagree_only_where_one_undoes_the_other() {
        for (left, right, expected) in [
            (json!(1), json!(1), false),
            (json!(1), json!(2), true),
            (json!({ "add": ["A"] }), json!({ "add": ["B"] }), false),
            (json!({ "add": ["A"] }), json!({ "remove": ["A"] }), true),
            (json!({ "merge": { "a": 1 } }), json!({ "merge": { "b": 2 } }), false),
            (json!({ "merge": { "a": 1 } }), json!({ "merge": { "a": 2 } }), true),
            (json!({ "add": ["A"] }), json!(["B"]), true),
        ] {
            assert_eq!(disagree(&left, &right), expected, "{left} {right}");
        }
    }

    #[test]
    fn all_that_is_wrong_is_said_at_once() {
        let given =
            BTreeMap::from([("idel".to_owned(), vec![LayerValue::new(json!(1), Layer::CommandLine)])]);
        let mut idle = parameter(ParameterType::Integer, None);
        idle.name.value = "idle".into();
        let findings = resolve(&[idle], &given, &Place::of_file("b.toml")).unwrap_err();
        let messages: Vec<&str> = findings.iter().map(|finding| finding.message.as_str()).collect();
        assert_eq!(messages, ["`idle` has no value", "the baseline has no parameter `idel`"]);
        assert_eq!(findings[1].hint.as_deref(), Some("did you mean `idle`?"));
    }
}
