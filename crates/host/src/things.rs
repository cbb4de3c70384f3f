//! Things that exist on a node, and why one cannot be described.

use crate::error::CannotDescribe;
use crate::machine::NotSeen;
use serde_json::Value;
use std::collections::BTreeMap;

/// A thing that is there: its name, and what distinguishes it from others.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Thing {
    pub name: String,
    pub known: BTreeMap<String, Value>,
}

impl Thing {
    pub fn named(name: impl Into<String>) -> Self {
        Self { name: name.into(), known: BTreeMap::new() }
    }
}

impl From<NotSeen> for CannotDescribe {
    fn from(not_seen: NotSeen) -> Self {
        match not_seen {
            NotSeen::Unsupported(why) => Self::Unsupported(why),
            NotSeen::Failed(error) => Self::Failed(error),
        }
    }
}
