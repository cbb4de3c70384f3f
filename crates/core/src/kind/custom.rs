//! Kinds that kits teach: what `kind.toml` declares, made into a [`Kind`] like those of the table.

use super::claim::Claim;
use super::property::{Kind, Matcher, Naming, Property, ValueType};
use crate::digest::{self, Digest};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap};
use std::sync::{LazyLock, Mutex, PoisonError};

/// The most kinds of kits that one process comes to know.
const MAX_KNOWN: usize = 10_000;

/// What a kit declares of a kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CustomKind {
    /// `kit/kind`: the part of an address before the `:`.
    pub name: String,
    /// What it is for.
    pub summary: String,
    /// The names of the properties that tell one thing from another, so that two clauses never keep the same unnoticed;
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

/// Too many kinds of kits are known to this process.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("this process has loaded {MAX_KNOWN} custom kinds; restart it to load others")]
pub struct TooManyKinds;

static KNOWN: LazyLock<Mutex<HashMap<Digest, &'static Kind>>> = LazyLock::new(Mutex::default);

impl CustomKind {
    /// Returns the declaration as agents need it: without what is only for people.
    #[must_use]
    pub fn for_agents(&self) -> Self {
        Self { docs: String::new(), example: String::new(), ..self.clone() }
    }

    /// Returns the kind that it declares. Equal declarations are one kind, which is kept as long as the process lives:
    /// there are few, and clauses refer to them as to those of the table.
    ///
    /// # Errors
    ///
    /// Returns that there are too many.
    pub fn kind(&self) -> Result<&'static Kind, TooManyKinds> {
        let digest = digest::of_value("k1", self);
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(kind) = known.get(&digest) {
            return Ok(kind);
        }
        if known.len() >= MAX_KNOWN {
            return Err(TooManyKinds);
        }
        let kind: &'static Kind = Box::leak(Box::new(self.clone().into_kind()));
        known.insert(digest, kind);
        Ok(kind)
    }

    fn into_kind(self) -> Kind {
        let custom: &'static Self = Box::leak(Box::new(self));
        let properties: Vec<Property> =
            custom.properties.iter().map(|property| property.declared(custom)).collect();
        Kind {
            name: &custom.name,
            noun: &custom.name,
            purpose: &custom.summary,
            properties: properties.leak(),
            can_be_gone: custom.can_be_gone,
            correctable: custom.correctable,
            naming: Naming::Free,
            claims: "its name",
            on_node: "the program that the kit brings",
            example: &custom.example,
            custom: Some(custom),
            ..Kind::PLAIN
        }
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
    fn declared(&'static self, kind: &CustomKind) -> Property {
        let words: Vec<&'static str> = self.one_of.iter().map(String::as_str).collect();
        let value = match self.value {
            CustomType::String if !words.is_empty() => ValueType::Word(words.leak()),
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
