//! Custom kinds: what a kit's `kind.toml` declares.

use super::claim::Claim;
use super::property::{Matcher, Property, ValueType, Words};
use crate::digest::Digest;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// What a kit declares of a kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CustomKind {
    /// `kit/kind`: the part of an address before the `:`.
    pub name: String,
    /// What it is for.
    pub summary: String,
    /// The names of the properties that distinguish things, so that two clauses never keep the same unnoticed;
    /// without any it is the name alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub claim: Vec<String>,
    /// Whether its things can be wanted gone.
    pub can_be_gone: bool,
    /// Whether its program corrects; else it is only looked at.
    pub correctable: bool,
    /// How long its program may take, in seconds.
    pub timeout_secs: u64,
    /// The program's name within the kind's folder.
    pub program: String,
    /// The digest of the program.
    pub program_digest: Digest,
    /// Its properties.
    pub properties: Vec<CustomProperty>,
    /// What a person should know of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub docs: String,
    /// The shortest useful clause.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub example: String,
}

/// One property that a kit declares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CustomProperty {
    /// Its name.
    pub name: String,
    /// Its type.
    #[serde(rename = "type")]
    pub value: CustomType,
    /// The words that it takes; any text without.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub one_of: Vec<String>,
    /// Whether a clause that is not `gone` must have it.
    #[serde(default)]
    pub required: bool,
    /// Whether its value is never shown.
    #[serde(default)]
    pub concealed: bool,
    /// Whether it only says how to get there, and is not compared with what is found.
    #[serde(default)]
    pub manner: bool,
    /// What it means.
    #[serde(default)]
    pub note: String,
}

/// The type of a declared property, in the words that parameters use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the words say it")]
pub enum CustomType {
    String,
    Integer,
    Boolean,
    List,
    Map,
}

impl CustomKind {
    /// Returns the declaration as agents need it: without what is only for people.
    #[must_use]
    pub fn for_agents(&self) -> Self {
        Self { docs: String::new(), example: String::new(), ..self.clone() }
    }

    /// Returns its properties as those of the table are given.
    pub(crate) fn declared_properties(&self) -> impl Iterator<Item = Property<'_>> + Clone {
        self.properties.iter().map(|property| property.declared(self))
    }

    /// Returns what a clause of this name and these properties claims.
    pub(super) fn claim_of(&self, name: &str, properties: &BTreeMap<String, Value>) -> Claim {
        let parts: Vec<String> = self
            .claim
            .iter()
            .map(|property| properties.get(property).map_or_else(String::new, Value::to_string))
            .collect();
        Claim::Custom(self.name.clone(), if parts.is_empty() { vec![name.to_owned()] } else { parts })
    }
}

impl CustomProperty {
    fn declared<'k>(&'k self, kind: &CustomKind) -> Property<'k> {
        let value = match self.value {
            CustomType::String if !self.one_of.is_empty() => ValueType::Word(Words::Declared(&self.one_of)),
            CustomType::String => ValueType::Text,
            CustomType::Integer => ValueType::Integer,
            CustomType::Boolean => ValueType::Boolean,
            CustomType::List => ValueType::TextList,
            CustomType::Map => ValueType::TextMap,
        };
        Property {
            name: &self.name,
            value,
            describes_node: !self.manner,
            concealed: self.concealed,
            required: self.required,
            identifies: kind.claim.contains(&self.name),
            default: None,
            matcher: if self.manner { Matcher::Never } else { Matcher::Equal },
            note: &self.note,
        }
    }
}
