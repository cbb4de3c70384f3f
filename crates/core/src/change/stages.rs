//! Edits of the stages: made, moved, renamed, removed.

use super::{DocumentEdit, DocumentKey};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// A stage in the document of all stages: its name, or that and what it asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Written", into = "Written")]
pub struct StageEntry {
    /// Its name.
    pub name: String,
    /// Whether a second person has to approve changes of what it serves.
    pub second_person: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Written {
    Name(String),
    Whole { name: String, second_person: bool },
}

impl From<Written> for StageEntry {
    fn from(written: Written) -> Self {
        match written {
            Written::Name(name) => Self { name, second_person: false },
            Written::Whole { name, second_person } => Self { name, second_person },
        }
    }
}

impl From<StageEntry> for Written {
    fn from(entry: StageEntry) -> Self {
        let StageEntry { name, second_person } = entry;
        if second_person { Self::Whole { name, second_person } } else { Self::Name(name) }
    }
}

impl StageEntry {
    /// Returns the stages of their document, in their order.
    pub fn all(document: Option<&Value>) -> Vec<Self> {
        document.and_then(|stages| serde_json::from_value(stages.clone()).ok()).unwrap_or_default()
    }
}

/// What is done to a stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StageEdit {
    /// It is made, before another one or as the last.
    Make {
        /// The stage that comes after it.
        before: Option<String>,
    },
    /// It is moved before another one, or to the end.
    Move {
        /// The stage that comes after it.
        before: Option<String>,
    },
    /// It is renamed; groups that name it and the releases that it serves follow.
    Rename {
        /// Its next name.
        to: String,
    },
    /// It asks for a second person from then on, or no longer.
    SecondPerson {
        /// Whether it does.
        required: bool,
    },
    /// It is removed.
    Remove,
}

/// Why a stage cannot be edited so.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StageError {
    /// There is none of this name.
    #[error("there is no stage `{0}`")]
    Missing(String),
    /// There is one of this name.
    #[error("there is a stage `{0}` already")]
    Exists(String),
    /// The name is none.
    #[error("a stage's name has lower-case letters, digits and `-`, at most 64, and begins with a letter")]
    Name,
    /// Groups name it.
    #[error("the stage `{stage}` is named by the group {}", groups.join(", "))]
    Named {
        /// The stage.
        stage: String,
        /// The groups.
        groups: Vec<String>,
    },
}

/// Returns the edits of documents by which a stage is edited.
///
/// # Errors
///
/// Returns why it cannot be.
pub fn edit_stage(
    documents: &BTreeMap<DocumentKey, Value>,
    name: &str,
    edit: &StageEdit,
) -> Result<Vec<DocumentEdit>, StageError> {
    let before = documents.get(&DocumentKey::Stages).cloned();
    let mut stages = StageEntry::all(before.as_ref());
    let place = |stages: &[StageEntry], name: &str| {
        stages.iter().position(|stage| stage.name == name).ok_or_else(|| StageError::Missing(name.to_owned()))
    };
    let mut edits = Vec::new();
    match edit {
        StageEdit::Make { before } => {
            is_free(&stages, name)?;
            let at = before.as_ref().map_or(Ok(stages.len()), |before| place(&stages, before))?;
            stages.insert(at, StageEntry { name: name.to_owned(), second_person: false });
        }
        StageEdit::Move { before } => {
            let moved = stages.remove(place(&stages, name)?);
            let at = before.as_ref().map_or(Ok(stages.len()), |before| place(&stages, before))?;
            stages.insert(at, moved);
        }
        StageEdit::Rename { to } => {
            let at = place(&stages, name)?;
            is_free(&stages, to)?;
            stages[at].name.clone_from(to);
            edits.extend(groups_of(documents, name).map(|(key, body)| {
                let mut after = body.clone();
                after["stage"] = json!(to);
                DocumentEdit { key: key.clone(), before: Some(body.clone()), after: Some(after) }
            }));
            for (key, kit, version) in served_by(documents, name) {
                let next = DocumentKey::Served { stage: to.clone(), kit: kit.to_owned() };
                edits.push(DocumentEdit { key: key.clone(), before: Some(version.clone()), after: None });
                edits.push(DocumentEdit { key: next, before: None, after: Some(version.clone()) });
            }
        }
        StageEdit::SecondPerson { required } => {
            let at = place(&stages, name)?;
            stages[at].second_person = *required;
        }
        StageEdit::Remove => {
            stages.remove(place(&stages, name)?);
            let groups: Vec<String> = groups_of(documents, name)
                .filter_map(|(_, body)| Some(body["name"].as_str()?.to_owned()))
                .collect();
            if !groups.is_empty() {
                return Err(StageError::Named { stage: name.to_owned(), groups });
            }
            edits.extend(served_by(documents, name).map(|(key, _, version)| DocumentEdit {
                key: key.clone(),
                before: Some(version.clone()),
                after: None,
            }));
        }
    }
    edits.insert(0, DocumentEdit { key: DocumentKey::Stages, before, after: Some(json!(stages)) });
    Ok(edits)
}

fn is_free(stages: &[StageEntry], name: &str) -> Result<(), StageError> {
    match (is_stage_name(name), stages.iter().any(|stage| stage.name == name)) {
        (false, _) => Err(StageError::Name),
        (true, true) => Err(StageError::Exists(name.to_owned())),
        (true, false) => Ok(()),
    }
}

/// Returns whether a stage can be called so.
pub(super) fn is_stage_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.len() <= 64
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
}

fn groups_of<'d>(
    documents: &'d BTreeMap<DocumentKey, Value>,
    stage: &'d str,
) -> impl Iterator<Item = (&'d DocumentKey, &'d Value)> {
    documents.iter().filter(move |(key, body)| matches!(key, DocumentKey::Group(_)) && body["stage"] == stage)
}

fn served_by<'d>(
    documents: &'d BTreeMap<DocumentKey, Value>,
    name: &'d str,
) -> impl Iterator<Item = (&'d DocumentKey, &'d str, &'d Value)> {
    documents.iter().filter_map(move |(key, version)| match key {
        DocumentKey::Served { stage, kit } if stage == name => Some((key, kit.as_str(), version)),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn documents() -> BTreeMap<DocumentKey, Value> {
        let served = |stage: &str| DocumentKey::Served { stage: stage.into(), kit: "quay-base".into() };
        BTreeMap::from([
            (DocumentKey::Stages, json!(["harbour", "open-water"])),
            (DocumentKey::Group("night-trial".into()), json!({ "name": "night-trial", "stage": "harbour" })),
            (DocumentKey::Group("kiosks".into()), json!({ "name": "kiosks" })),
            (served("harbour"), json!("1.4.0")),
            (served("open-water"), json!("1.3.0")),
        ])
    }

    fn edited(name: &str, edit: &StageEdit) -> Result<Vec<(String, Option<Value>)>, String> {
        let edits = edit_stage(&documents(), name, edit).map_err(|error| error.to_string())?;
        assert!(
            super::super::later_edits(&edits, &documents()).is_empty(),
            "what they found is what there is"
        );
        Ok(edits.into_iter().map(|edit| (edit.key.to_string(), edit.after)).collect())
    }

    #[test]
    fn a_stage_is_made_and_moved_where_it_is_wanted() {
        let stages = |names: &[&str]| Ok(vec![("stages".to_owned(), Some(json!(names)))]);
        assert_eq!(
            edited("pilot", &StageEdit::Make { before: None }),
            stages(&["harbour", "open-water", "pilot"])
        );
        assert_eq!(
            edited("pilot", &StageEdit::Make { before: Some("harbour".into()) }),
            stages(&["pilot", "harbour", "open-water"])
        );
        assert_eq!(
            edited("open-water", &StageEdit::Move { before: Some("harbour".into()) }),
            stages(&["open-water", "harbour"])
        );
        assert_eq!(edited("harbour", &StageEdit::Move { before: None }), stages(&["open-water", "harbour"]));
        assert_eq!(
            edited("harbour", &StageEdit::Make { before: None }),
            Err("there is a stage `harbour` already".into())
        );
        assert_eq!(
            edited("pilot", &StageEdit::Move { before: None }),
            Err("there is no stage `pilot`".into())
        );
        assert!(edited("Pilot 1", &StageEdit::Make { before: None }).is_err());
    }

    #[test]
    fn groups_and_served_releases_follow_a_stage_that_is_renamed() {
        let named = |name: &str| json!({ "name": "night-trial", "stage": name });
        assert_eq!(
            edited("harbour", &StageEdit::Rename { to: "pilot".into() }),
            Ok(vec![
                ("stages".into(), Some(json!(["pilot", "open-water"]))),
                ("group:night-trial".into(), Some(named("pilot"))),
                ("served:harbour/quay-base".into(), None),
                ("served:pilot/quay-base".into(), Some(json!("1.4.0"))),
            ])
        );
    }

    #[test]
    fn a_stage_that_a_group_names_is_not_removed() {
        assert_eq!(
            edited("harbour", &StageEdit::Remove),
            Err("the stage `harbour` is named by the group night-trial".into())
        );
        assert_eq!(
            edited("open-water", &StageEdit::Remove),
            Ok(vec![
                ("stages".into(), Some(json!(["harbour"]))),
                ("served:open-water/quay-base".into(), None)
            ])
        );
    }
}
