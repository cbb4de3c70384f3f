//! All that has a say in a value of one node: the layers from the lowest to the highest, the replaced ones too.

use super::{Group, NodeOwn, Plan};
use crate::param::{Layer, LayerValue, ParameterValue};
use crate::settings::{NODE_ITSELF, SETTINGS};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// A value that a node has, and all that was said of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LayeredValue {
    /// The parameter, as `KIT/BASELINE.PARAM`, or the word of the setting.
    pub name: String,
    /// What each layer says, the lowest first; the default of a setting is in words.
    pub layers: Vec<LayerValue>,
    /// From which of them on they have a say: those before are replaced.
    pub counts_from: usize,
}

/// The settings and parameters of one node on which somebody has a say.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeLayers {
    /// Settings of its agent that a group or the node itself sets, in the order in which they are described.
    pub settings: Vec<LayeredValue>,
    /// All parameters, by their names.
    pub parameters: Vec<LayeredValue>,
}

/// Returns the layers of a node's settings and parameters. `parameters` are its values, and `defaults` are those that their baselines
/// declare.
pub fn node_layers(
    plan: &Plan,
    groups: &[Group],
    own: &NodeOwn,
    parameters: &BTreeMap<String, ParameterValue>,
    defaults: &BTreeMap<String, Value>,
) -> NodeLayers {
    let itself = own.group();
    let named = |name: &String| groups.iter().find(|group| group.name == *name);
    let mine: Vec<&Group> = plan.groups.iter().filter_map(named).chain([&itself]).collect();
    let layer = |group: &Group| {
        if group.name == NODE_ITSELF { Layer::Node } else { Layer::Group(group.name.clone()) }
    };
    let settings = SETTINGS.iter().filter_map(|setting| {
        let said = |group: &&Group| {
            let value = group.settings.get(setting.word)?;
            Some(LayerValue {
                value,
                layer: layer(group),
                until: group.settings_until.get(setting.word).map(|end| end.until),
            })
        };
        let said: Vec<LayerValue> = mine.iter().filter_map(said).collect();
        if said.is_empty() {
            return None;
        }
        let usual = LayerValue::new(setting.usual.into(), Layer::Default);
        let layers: Vec<LayerValue> = [usual].into_iter().chain(said).collect();
        Some(LayeredValue { name: setting.word.to_owned(), counts_from: layers.len() - 1, layers })
    });
    let parameters = parameters.iter().map(|(name, value)| {
        let default = defaults.get(name).map(|value| LayerValue::new(value.clone(), Layer::Default));
        let given = plan.given.get(name).into_iter().flatten().cloned();
        let layers: Vec<LayerValue> = default.into_iter().chain(given).collect();
        let lowest = value.over.first().unwrap_or(&value.from);
        let counts_from = layers.iter().rposition(|one| one.layer == *lowest).unwrap_or(0);
        LayeredValue { name: name.clone(), layers, counts_from }
    });
    NodeLayers { settings: settings.collect(), parameters: parameters.collect() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::NodeView;
    use crate::group::plan;
    use serde_json::json;

    #[test]
    fn every_layer_is_told_and_from_which_on_they_count() {
        let group = |name: &str, priority: i32, mode: Value, lanes: Value| -> Group {
            serde_json::from_value(json!({
                "name": name, "priority": priority, "filter": "true", "settings": { "mode": mode }, "parameters": { "a/b.lanes": lanes },
            }))
            .unwrap()
        };
        let groups = [
            group("kiosks", 10, json!("enforce"), json!(["A"])),
            group("night-trial", 20, Value::Null, json!({ "add": ["B"] })),
        ];
        let own: NodeOwn = serde_json::from_value(json!({ "settings": { "mode": "observe" } })).unwrap();
        let plan = plan(&NodeView::default(), &own, &groups, &["harbour".to_owned()]).unwrap();
        let lanes = ParameterValue {
            value: json!(["A", "B"]),
            from: Layer::Group("night-trial".into()),
            over: vec![Layer::Group("kiosks".into())],
        };
        let parameters = BTreeMap::from([("a/b.lanes".to_owned(), lanes)]);
        let defaults = BTreeMap::from([("a/b.lanes".to_owned(), json!(["X"]))]);
        let told = node_layers(&plan, &groups, &own, &parameters, &defaults);
        let said = |one: &LayeredValue| -> Vec<String> {
            one.layers.iter().map(|layer| format!("{} {}", layer.layer.words(), layer.value)).collect()
        };
        let [mode] = told.settings.as_slice() else { panic!("{:?}", told.settings) };
        assert_eq!(
            said(mode),
            ["the default \"observe\"", "the group `kiosks` \"enforce\"", "the node \"observe\""]
        );
        assert_eq!(mode.counts_from, 2, "a setting is replaced whole");
        let [lanes] = told.parameters.as_slice() else { panic!("{:?}", told.parameters) };
        assert_eq!(
            said(lanes),
            [
                "the default [\"X\"]",
                "the group `kiosks` [\"A\"]",
                "the group `night-trial` {\"add\":[\"B\"]}"
            ]
        );
        assert_eq!(lanes.counts_from, 1, "the default is replaced, the group below is added to");
    }
}
