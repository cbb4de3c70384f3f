//! What conditions may ask of a node: its name, its labels, and the stable fields of what it found out about itself.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A stable field of `about`: it changes seldom, so conditions may depend on it.
pub struct StableField {
    /// Its path below `about`.
    pub path: &'static str,
    /// What it says.
    pub note: &'static str,
    /// A usual value, which also shows its type.
    pub sample: Sample,
}

/// A usual value of a stable field.
#[derive(Debug, Clone, Copy)]
pub enum Sample {
    /// A text.
    Text(&'static str),
    /// A whole number.
    Integer(i64),
}

/// All stable fields.
pub const STABLE_FIELDS: &[StableField] = &[
    StableField {
        path: "os.family",
        note: "The family of the operating system: debian, rhel, …",
        sample: Sample::Text("debian"),
    },
    StableField { path: "os.name", note: "Its own name", sample: Sample::Text("debian") },
    StableField { path: "os.version", note: "Its version", sample: Sample::Text("12") },
    StableField { path: "arch", note: "The processor's architecture", sample: Sample::Text("x86_64") },
    StableField { path: "cpu.count", note: "How many processors it has", sample: Sample::Integer(2) },
    StableField { path: "memory.mib", note: "Its memory in MiB", sample: Sample::Integer(4096) },
    StableField { path: "init", note: "What runs its services", sample: Sample::Text("systemd") },
    StableField { path: "packages", note: "What keeps its packages", sample: Sample::Text("dpkg") },
    StableField {
        path: "virtual",
        note: "What kind of virtual machine it is, or none",
        sample: Sample::Text("none"),
    },
];

/// What an agent found out about its node, by the paths of [`STABLE_FIELDS`].
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct About {
    fields: BTreeMap<String, Value>,
}

#[cfg(feature = "schema")]
impl utoipa::PartialSchema for About {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        use utoipa::openapi::schema::AdditionalProperties;
        utoipa::openapi::ObjectBuilder::new()
            .additional_properties(Some(AdditionalProperties::FreeForm(true)))
            .into()
    }
}

#[cfg(feature = "schema")]
impl utoipa::ToSchema for About {}

impl About {
    /// Takes fields by path; what is left out counts as not reported.
    pub fn new(fields: impl IntoIterator<Item = (String, Value)>) -> Self {
        Self { fields: fields.into_iter().collect() }
    }

    /// Returns usual values of all stable fields, for checking documents.
    pub fn sample() -> Self {
        Self::new(STABLE_FIELDS.iter().map(|field| {
            let value = match field.sample {
                Sample::Text(text) => Value::from(text),
                Sample::Integer(integer) => Value::from(integer),
            };
            (field.path.to_owned(), value)
        }))
    }

    /// Returns only what is a stable field, a whole number or a text of at most 256 bytes: what a node says is not trusted.
    #[must_use]
    pub fn only_stable(&self) -> Self {
        let is_small = |value: &Value| value.is_u64() || value.as_str().is_some_and(|text| text.len() <= 256);
        let known = self.fields.iter().filter(|(path, value)| {
            STABLE_FIELDS.iter().any(|field| field.path == path.as_str()) && is_small(value)
        });
        Self { fields: known.map(|(path, value)| (path.clone(), value.clone())).collect() }
    }

    /// Returns one field.
    pub fn get(&self, path: &str) -> Option<&Value> {
        self.fields.get(path)
    }

    /// Returns all fields, by path.
    pub fn fields(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.fields.iter().map(|(path, value)| (path.as_str(), value))
    }

    /// Returns the fields as the nested map that documents see.
    pub fn nested(&self) -> Value {
        let mut root = Map::new();
        for (path, value) in &self.fields {
            match path.split_once('.') {
                None => drop(root.insert(path.clone(), value.clone())),
                Some((head, tail)) => {
                    let branch = root.entry(head).or_insert_with(|| Value::Object(Map::new()));
                    if let Value::Object(branch) = branch {
                        branch.insert(tail.to_owned(), value.clone());
                    }
                }
            }
        }
        Value::Object(root)
    }
}

/// One node as conditions and renders see it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct NodeView {
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What its agent reported about it.
    pub about: About,
}

impl NodeView {
    /// Returns a usual node, for checking documents.
    pub fn sample() -> Self {
        Self { name: "sample-node".into(), labels: BTreeMap::new(), about: About::sample() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn of_what_a_node_says_only_stable_fields_of_their_size_are_taken() {
        let about = About::new([
            ("arch".to_owned(), json!("x86_64")),
            ("cpu.count".to_owned(), json!(4)),
            ("os.name".to_owned(), json!("x".repeat(257))),
            ("memory.mib".to_owned(), json!({ "deep": [1, 2] })),
            ("shoe_size".to_owned(), json!(44)),
        ]);
        assert_eq!(
            about.only_stable(),
            About::new([("arch".to_owned(), json!("x86_64")), ("cpu.count".to_owned(), json!(4))])
        );
    }
}
