//! The documents of desired state, each under its key, and edits of them.

use serde::{Deserialize, Serialize, Serializer};
use serde_json::Value;
use similar::TextDiff;
use std::collections::BTreeMap;
use std::fmt;

/// Names one document.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize)]
#[serde(try_from = "String")]
pub enum DocumentKey {
    /// The names of the stages in their order, `stages`.
    Stages,
    /// A group, `group:kiosks`.
    Group(String),
    /// The release of a kit that a stage serves, `served:harbour/quay-base`.
    Served {
        /// The stage.
        stage: String,
        /// The kit.
        kit: String,
    },
    /// What a person says of the node with this id, `node:01977e2c-…`.
    Node(String),
}

/// Why a text is no key of a document.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` names no document; keys are stages, group:NAME, served:STAGE/KIT and node:ID")]
pub struct KeyError(String);

impl fmt::Display for DocumentKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Stages => f.write_str("stages"),
            Self::Group(name) => write!(f, "group:{name}"),
            Self::Served { stage, kit } => write!(f, "served:{stage}/{kit}"),
            Self::Node(id) => write!(f, "node:{id}"),
        }
    }
}

impl DocumentKey {
    /// Returns the id of the node that it is about.
    pub fn node(&self) -> Option<&str> {
        if let Self::Node(id) = self { Some(id) } else { None }
    }
}

/// Whether a text is written as ids of nodes are (RFC 9562).
fn is_id(text: &str) -> bool {
    text.len() == 36
        && text
            .chars()
            .enumerate()
            .all(|(at, c)| if matches!(at, 8 | 13 | 18 | 23) { c == '-' } else { c.is_ascii_hexdigit() })
}

impl TryFrom<String> for DocumentKey {
    type Error = KeyError;

    fn try_from(text: String) -> Result<Self, KeyError> {
        let served = |rest: &str| {
            rest.split_once('/')
                .map(|(stage, kit)| Self::Served { stage: stage.to_owned(), kit: kit.to_owned() })
        };
        let key = match text.split_once(':') {
            None if text == "stages" => Some(Self::Stages),
            Some(("group", name)) if !name.is_empty() => Some(Self::Group(name.to_owned())),
            Some(("served", rest)) => served(rest),
            Some(("node", id)) if is_id(id) => Some(Self::Node(id.to_owned())),
            _ => None,
        };
        key.ok_or(KeyError(text))
    }
}

impl Serialize for DocumentKey {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// A document before and after a change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DocumentEdit {
    /// Which document, as `stages`, `group:kiosks`, `served:harbour/quay-base` or `node:ID`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub key: DocumentKey,
    /// As it was; none if there was none.
    pub before: Option<Value>,
    /// As it is from then on; none if there is none any more.
    pub after: Option<Value>,
}

impl DocumentEdit {
    /// Returns what it edits, as a person calls it: `group kiosks`, `node kiosk-auken-1`.
    pub fn title(&self) -> String {
        let name = || self.before.as_ref().or(self.after.as_ref()).and_then(|value| value["name"].as_str());
        match &self.key {
            DocumentKey::Stages => "stages".to_owned(),
            DocumentKey::Group(name) => format!("group {name}"),
            DocumentKey::Served { stage, kit } => format!("release of {kit} in {stage}"),
            DocumentKey::Node(id) => format!("node {}", name().unwrap_or(id)),
        }
    }

    /// Returns what it alters, line by line, with `-` before what goes, `+` before what comes and some lines around them.
    pub fn difference(&self) -> String {
        let [before, after] =
            [&self.before, &self.after].map(|value| value.as_ref().map(written).unwrap_or_default());
        let diff = TextDiff::from_lines(&before, &after);
        let mut lines = String::new();
        for hunk in diff.grouped_ops(AROUND).iter().flatten() {
            for change in diff.iter_changes(hunk) {
                lines += &format!("{} {}", change.tag(), change.value());
            }
        }
        lines
    }

    /// Returns the edit that takes this one back.
    #[must_use]
    pub fn reversed(self) -> Self {
        Self { key: self.key, before: self.after, after: self.before }
    }
}

/// The number of lines around a difference.
const AROUND: usize = 2;

fn written(value: &Value) -> String {
    let text =
        value.as_str().map_or_else(|| serde_json::to_string_pretty(value).unwrap_or_default(), str::to_owned);
    text + "\n"
}

/// Returns those of the edits whose document is no longer what they found: someone edited it since. `now` has those that
/// there are.
pub fn later_edits<'e>(
    edits: &'e [DocumentEdit],
    now: &BTreeMap<DocumentKey, Value>,
) -> Vec<&'e DocumentEdit> {
    edits.iter().filter(|edit| now.get(&edit.key) != edit.before.as_ref()).collect()
}

/// Returns documents with edits made.
#[must_use]
pub fn edited(
    mut documents: BTreeMap<DocumentKey, Value>,
    edits: &[DocumentEdit],
) -> BTreeMap<DocumentKey, Value> {
    for edit in edits {
        match &edit.after {
            Some(after) => documents.insert(edit.key.clone(), after.clone()),
            None => documents.remove(&edit.key),
        };
    }
    documents
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn keys_are_read_as_they_are_written() {
        for text in [
            "stages",
            "group:kiosks",
            "served:harbour/quay-base",
            "node:01977e2c-0000-7000-8000-000000000001",
        ] {
            let key: DocumentKey = serde_json::from_value(json!(text)).unwrap();
            assert_eq!(json!(key), json!(text));
        }
        for text in ["group:", "served:harbour", "kiosks", "stage:harbour", "stages:", "node:kiosk-auken-1"] {
            assert_eq!(
                DocumentKey::try_from(text.to_owned()).unwrap_err().to_string(),
                format!(
                    "`{text}` names no document; keys are stages, group:NAME, served:STAGE/KIT and node:ID"
                )
            );
        }
    }

    #[test]
    fn what_an_edit_alters_is_shown_with_some_lines_around_it() {
        let group = |priority| json!({ "filter": "labels.role == 'kiosk'", "name": "kiosks", "nodes": [], "parameters": {}, "priority": priority });
        let edit = DocumentEdit {
            key: DocumentKey::Group("kiosks".into()),
            before: Some(group(10)),
            after: Some(group(20)),
        };
        assert_eq!(
            edit.difference(),
            "    \"nodes\": [],\n    \"parameters\": {},\n-   \"priority\": 10\n+   \"priority\": 20\n  }\n"
        );
        let made = DocumentEdit { before: None, ..edit };
        assert!(made.difference().lines().all(|line| line.starts_with("+ ")), "{}", made.difference());
    }

    #[test]
    fn an_edit_fits_only_what_it_was_made_from_and_can_be_taken_back() {
        let key = DocumentKey::Served { stage: "harbour".into(), kit: "quay-base".into() };
        let edit =
            DocumentEdit { key: key.clone(), before: Some(json!("1.2.0")), after: Some(json!("1.3.0")) };
        let serves = |version: &str| BTreeMap::from([(key.clone(), json!(version))]);
        assert_eq!(later_edits(std::slice::from_ref(&edit), &serves("1.2.0")), Vec::<&DocumentEdit>::new());
        assert_eq!(later_edits(std::slice::from_ref(&edit), &serves("1.4.0")), [&edit]);
        assert_eq!(later_edits(std::slice::from_ref(&edit), &BTreeMap::new()), [&edit]);
        assert_eq!(edit.difference(), "- 1.2.0\n+ 1.3.0\n");
        let back = edit.reversed();
        assert_eq!((back.before, back.after), (Some(json!("1.3.0")), Some(json!("1.2.0"))));
    }
}
