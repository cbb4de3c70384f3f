//! Stages, groups and what stages serve as one document, for version control: what is exported is imported without any change.

use super::stages::is_stage_name;
use super::{DocumentEdit, DocumentKey, StageEntry, StageError};
use crate::group::{EVERYONE, Group};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// The desired state of the fleet, but for what single nodes are given: stages with their releases, and groups with what they give.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WholeDocument {
    /// The stages in order.
    pub stages: Vec<WholeStage>,
    /// The groups.
    pub groups: Vec<Group>,
}

/// A stage with the releases that it serves.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WholeStage {
    /// Its name.
    pub name: String,
    /// Whether a second person has to approve changes of what it serves.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub second_person: bool,
    /// The releases, `KIT@VERSION`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub serves: Vec<String>,
}

impl WholeDocument {
    /// Returns the document of the desired state as it is; groups of higher priority first.
    ///
    /// # Errors
    ///
    /// Returns which group cannot be read.
    pub fn of(documents: &BTreeMap<DocumentKey, Value>) -> Result<Self, String> {
        let serves = |name: &str| {
            let of_stage = |(key, version): (&DocumentKey, &Value)| match key {
                DocumentKey::Served { stage, kit } if stage == name => {
                    Some(format!("{kit}@{}", version.as_str()?))
                }
                _ => None,
            };
            documents.iter().filter_map(of_stage).collect()
        };
        let stages = StageEntry::all(documents.get(&DocumentKey::Stages)).into_iter().map(|entry| {
            WholeStage { serves: serves(&entry.name), second_person: entry.second_person, name: entry.name }
        });
        let stages = stages.collect();
        let mut groups: Vec<Group> = documents
            .iter()
            .filter_map(|(key, body)| match key {
                DocumentKey::Group(name) => Some(read_group(name, body)),
                _ => None,
            })
            .collect::<Result<_, _>>()?;
        groups.sort_by(|left, right| {
            right.priority.cmp(&left.priority).then_with(|| left.name.cmp(&right.name))
        });
        Ok(Self { stages, groups })
    }

    /// Returns the edits that make the desired state as this document says: what it does not have goes. Nothing of what is so already.
    ///
    /// # Errors
    ///
    /// Returns everything that contradicts itself in it.
    pub fn edits(&self, documents: &BTreeMap<DocumentKey, Value>) -> Result<Vec<DocumentEdit>, Vec<String>> {
        let mut wrong = Vec::new();
        let wanted = self.documents(&mut wrong);
        if !self.groups.iter().any(|group| group.name == EVERYONE) {
            wrong.push(format!("the group {EVERYONE} is missing: it has all nodes and stays"));
        }
        if !wrong.is_empty() {
            return Err(wrong);
        }
        let about = |key: &DocumentKey| !matches!(key, DocumentKey::Node(_));
        let keys: BTreeSet<&DocumentKey> =
            documents.keys().filter(|key| about(key)).chain(wanted.keys()).collect();
        let mut edits = Vec::new();
        for key in keys {
            let (before, after) = (documents.get(key), wanted.get(key));
            if !is_same(key, before, after) {
                edits.push(DocumentEdit { key: key.clone(), before: before.cloned(), after: after.cloned() });
            }
        }
        Ok(edits)
    }

    fn documents(&self, wrong: &mut Vec<String>) -> BTreeMap<DocumentKey, Value> {
        let entry =
            |stage: &WholeStage| StageEntry { name: stage.name.clone(), second_person: stage.second_person };
        let entries: Vec<StageEntry> = self.stages.iter().map(entry).collect();
        let mut all = BTreeMap::from([(DocumentKey::Stages, json!(entries))]);
        let mut names = BTreeSet::new();
        for stage in &self.stages {
            if !is_stage_name(&stage.name) {
                wrong.push(format!("{:?} is no name of a stage: {}", stage.name, StageError::Name));
            }
            if !names.insert(&stage.name) {
                wrong.push(format!("the stage {} is there twice", stage.name));
            }
            for release in &stage.serves {
                let Some((kit, version)) = release.split_once('@') else {
                    wrong.push(format!(
                        "the stage {} serves `{release}`, which is not KIT@VERSION",
                        stage.name
                    ));
                    continue;
                };
                let key = DocumentKey::Served { stage: stage.name.clone(), kit: kit.to_owned() };
                if all.insert(key, json!(version)).is_some() {
                    wrong.push(format!("the stage {} serves two releases of {kit}", stage.name));
                }
            }
        }
        for group in &self.groups {
            if all.insert(DocumentKey::Group(group.name.clone()), json!(group)).is_some() {
                wrong.push(format!("the group {} is there twice", group.name));
            }
        }
        all
    }
}

fn read_group(name: &str, body: &Value) -> Result<Group, String> {
    serde_json::from_value(body.clone()).map_err(|error| format!("the group {name} cannot be read: {error}"))
}

/// Whether two documents say the same, however they are written.
fn is_same(key: &DocumentKey, before: Option<&Value>, after: Option<&Value>) -> bool {
    let (Some(before), Some(after)) = (before, after) else { return before.is_none() && after.is_none() };
    match key {
        DocumentKey::Group(name) => read_group(name, before) == read_group(name, after),
        DocumentKey::Stages => StageEntry::all(Some(before)) == StageEntry::all(Some(after)),
        _ => before == after,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn documents() -> BTreeMap<DocumentKey, Value> {
        let served = |stage: &str, kit: &str, version: &str| {
            (DocumentKey::Served { stage: stage.into(), kit: kit.into() }, json!(version))
        };
        let group = |body: Value| (DocumentKey::Group(body["name"].as_str().unwrap().into()), body);
        BTreeMap::from([
            (DocumentKey::Stages, json!(["harbour", { "name": "open-water", "second_person": true }])),
            served("harbour", "quay-base", "1.4.0"),
            served("open-water", "quay-base", "1.3.0"),
            group(json!({ "name": "everyone", "settings": {} })),
            group(
                json!({ "name": "kiosks", "priority": 10, "filter": "labels.role == 'kiosk'", "settings": { "mode": "enforce" } }),
            ),
        ])
    }

    #[test]
    fn what_is_exported_is_imported_without_a_change_and_what_goes_is_edited_away() {
        let documents = documents();
        let whole = WholeDocument::of(&documents).unwrap();
        assert_eq!(
            whole.groups.iter().map(|group| group.name.as_str()).collect::<Vec<_>>(),
            ["kiosks", "everyone"]
        );
        assert_eq!(
            whole.stages[1],
            WholeStage {
                name: "open-water".into(),
                second_person: true,
                serves: vec!["quay-base@1.3.0".into()]
            }
        );
        assert_eq!(whole.edits(&documents), Ok(Vec::new()));
        let written = toml::to_string_pretty(&whole).unwrap();
        assert_eq!(toml::from_str::<WholeDocument>(&written).unwrap(), whole, "{written}");

        let mut other = whole.clone();
        other.groups.retain(|group| group.name == EVERYONE);
        other.stages[1].serves = vec!["quay-base@1.4.0".into()];
        let edits = other.edits(&documents).unwrap();
        let said: Vec<(String, Option<Value>)> =
            edits.into_iter().map(|edit| (edit.title(), edit.after)).collect();
        assert_eq!(
            said,
            [
                ("group kiosks".to_owned(), None),
                ("release of quay-base in open-water".to_owned(), Some(json!("1.4.0")))
            ]
        );
        let without = WholeDocument { stages: whole.stages[..1].to_vec(), ..whole };
        let titles: Vec<String> =
            without.edits(&documents).unwrap().iter().map(DocumentEdit::title).collect();
        assert_eq!(
            titles,
            ["stages", "release of quay-base in open-water"],
            "what a stage served goes with it"
        );
    }

    #[test]
    fn everything_that_contradicts_itself_is_told_at_once() {
        let stage = |name: &str, serves: &[&str]| WholeStage {
            name: name.into(),
            second_person: false,
            serves: serves.iter().map(|release| (*release).to_owned()).collect(),
        };
        let group = |name: &str| Group { name: name.into(), ..Group::default() };
        let whole = WholeDocument {
            stages: vec![
                stage("harbour", &["quay-base@1.4.0", "quay-base@1.3.0", "quay-base"]),
                stage("harbour", &[]),
            ],
            groups: vec![group("kiosks"), group("kiosks")],
        };
        assert_eq!(
            whole.edits(&documents()).unwrap_err(),
            [
                "the stage harbour serves two releases of quay-base",
                "the stage harbour serves `quay-base`, which is not KIT@VERSION",
                "the stage harbour is there twice",
                "the group kiosks is there twice",
                "the group everyone is missing: it has all nodes and stays",
            ]
        );
    }
}
