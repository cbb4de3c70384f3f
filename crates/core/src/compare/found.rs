//! What an inspection found.

use crate::kind::VersionOrder;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;

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
    /// The properties, as far as the clause wants them, each once: they are few.
    pub properties: Vec<(Cow<'static, str>, FoundValue)>,
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
            properties: Vec::new(),
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

    /// Returns a property.
    pub fn get(&self, property: &str) -> Option<&FoundValue> {
        self.properties.iter().find(|(name, _)| name == property).map(|(_, found)| found)
    }

    /// Adds a property's value.
    #[must_use]
    pub fn with(self, property: impl Into<Cow<'static, str>>, value: impl Into<Value>) -> Self {
        self.with_found(property, FoundValue::Value(value.into()))
    }

    /// Adds a property that could not be read or does not exist here.
    #[must_use]
    pub fn with_found(mut self, property: impl Into<Cow<'static, str>>, found: FoundValue) -> Self {
        let property = property.into();
        match self.properties.iter_mut().find(|(name, _)| *name == property) {
            Some((_, known)) => *known = found,
            None => self.properties.push((property, found)),
        }
        self
    }
}
