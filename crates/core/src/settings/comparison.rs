//! In which settings the agents of some nodes differ.

use super::AgentSettings;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// This many nodes of one value are named.
pub const MAX_NAMED: usize = 20;

/// Nodes whose agents are set alike.
#[derive(Debug, Clone)]
pub struct AlikeNodes {
    /// Their settings.
    pub settings: AgentSettings,
    /// How many there are.
    pub nodes: u64,
    /// The first of them, by name.
    pub names: Vec<String>,
}

/// A setting in which nodes differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DifferingSetting {
    /// The setting.
    pub word: String,
    /// Its values, that of the most nodes first.
    pub values: Vec<SettingOfNodes>,
}

/// One value of a setting, and the nodes that have it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingOfNodes {
    /// The value in words.
    pub value: String,
    /// Where it comes from, in words.
    pub from: Vec<String>,
    /// How many nodes have it.
    pub nodes: u64,
    /// The first of them by name, at most [`MAX_NAMED`].
    pub names: Vec<String>,
}

/// Returns the settings in which nodes differ, and those that are the same on all of them, in words.
pub fn compare_settings(all: &[AlikeNodes]) -> (Vec<DifferingSetting>, Vec<String>) {
    let mut words: Vec<String> = Vec::new();
    let mut by_word: BTreeMap<String, BTreeMap<String, SettingOfNodes>> = BTreeMap::new();
    for alike in all {
        for described in alike.settings.described() {
            if !words.contains(&described.word) {
                words.push(described.word.clone());
            }
            let values = by_word.entry(described.word).or_default();
            let one = values.entry(described.value.clone()).or_insert_with(|| SettingOfNodes {
                value: described.value,
                from: Vec::new(),
                nodes: 0,
                names: Vec::new(),
            });
            one.nodes += alike.nodes;
            one.names.extend(alike.names.iter().cloned());
            if !one.from.contains(&described.from) {
                one.from.push(described.from);
            }
        }
    }
    let (mut differing, mut same) = (Vec::new(), Vec::new());
    for word in words {
        let mut values: Vec<SettingOfNodes> =
            by_word.remove(&word).unwrap_or_default().into_values().collect();
        for one in &mut values {
            one.names.sort();
            one.names.truncate(MAX_NAMED);
        }
        values.sort_by_key(|one| std::cmp::Reverse(one.nodes));
        match values.as_slice() {
            [one] => same.push(format!("{word}: {}", one.value)),
            _ => differing.push(DifferingSetting { word, values }),
        }
    }
    (differing, same)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::run::Mode;

    #[test]
    fn what_differs_is_told_by_value_with_the_nodes_and_the_rest_is_said_to_be_the_same() {
        let alike = |mode: Mode, group: &str, nodes: u64, names: &[&str]| AlikeNodes {
            settings: AgentSettings {
                mode,
                from: BTreeMap::from([("mode".to_owned(), vec![group.to_owned()])]),
                ..AgentSettings::default()
            },
            nodes,
            names: names.iter().map(|name| (*name).to_owned()).collect(),
        };
        let (differing, same) = compare_settings(&[
            alike(Mode::Observe, "night-trial", 1, &["till-auken-1"]),
            alike(Mode::Enforce, "kiosks", 2, &["kiosk-auken-1", "kiosk-brisk-1"]),
            alike(Mode::Enforce, "gates", 1, &["gate-auken-1"]),
        ]);
        let [mode] = differing.as_slice() else { panic!("{differing:?}") };
        let told: Vec<_> =
            mode.values.iter().map(|one| (one.value.as_str(), one.nodes, one.names.join(" "))).collect();
        assert_eq!(
            told,
            [
                ("enforce", 3, "gate-auken-1 kiosk-auken-1 kiosk-brisk-1".to_owned()),
                ("observe", 1, "till-auken-1".to_owned()),
            ]
        );
        assert_eq!(mode.values[0].from, ["the group kiosks", "the group gates"]);
        assert!(same.contains(&"check-ins: every 15 min".to_owned()) && same.len() == 14, "{same:?}");
    }
}
