//! What an inspection found.

use crate::kind::VersionOrder;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Whether the thing is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Presence {
    /// It is.
    Present,
    /// It is not.
    Absent,
    /// It is not, but something of it was left: the settings of a removed package.
    Remnant,
    /// Half of it: a change of it was cut off or failed on the way, or it holds now and not at boot.
    Broken,
}

/// What an inspection found of one clause's thing.
#[derive(Debug, Clone, PartialEq)]
pub struct Found {
    /// Whether it is there.
    pub presence: Presence,
    /// The properties, as far as the clause wants them.
    pub properties: BTreeMap<String, FoundValue>,
    /// The size of a file's contents in bytes.
    pub size: Option<u64>,
    /// The newest version that the sources of a package offer.
    pub candidate: Option<String>,
    /// How the versions of its packages are ordered.
    pub version_order: VersionOrder,
    /// What is there, in words, where `present` or `half of it` would not say it.
    pub words: Option<String>,
}

/// One property as found.
#[derive(Debug, Clone, PartialEq)]
pub enum FoundValue {
    /// Its value, in normal form.
    Value(Value),
    /// It could not be read, and why.
    Unreadable(String),
    /// It cannot exist here, and why; it is left out of the comparison.
    NotExaminedHere(String),
}

impl Found {
    /// Returns a thing that is not there.
    pub fn absent() -> Self {
        Self {
            presence: Presence::Absent,
            properties: BTreeMap::new(),
            size: None,
            candidate: None,
            version_order: VersionOrder::default(),
            words: None,
        }
    }

    /// Returns a thing that is there, without properties yet.
    pub fn present() -> Self {
        Self { presence: Presence::Present, ..Self::absent() }
    }

    /// Returns a thing of which only half is there, and which half, in words.
    pub fn half(words: impl Into<String>) -> Self {
        Self { presence: Presence::Broken, words: Some(words.into()), ..Self::absent() }
    }

    /// Says in words what is there.
    #[must_use]
    pub fn in_words(mut self, words: impl Into<String>) -> Self {
        self.words = Some(words.into());
        self
    }

    /// Adds a property's value.
    #[must_use]
    pub fn with(mut self, property: &str, value: impl Into<Value>) -> Self {
        self.properties.insert(property.to_owned(), FoundValue::Value(value.into()));
        self
    }

    /// Adds a property that could not be read or does not exist here.
    #[must_use]
    pub fn with_found(mut self, property: &str, found: FoundValue) -> Self {
        self.properties.insert(property.to_owned(), found);
        self
    }
}
