//! What is there on a simulated host.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// One thing on a simulated host: a file, a package, a service, an account.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Thing {
    /// Its properties, as clauses name them.
    pub properties: BTreeMap<String, Value>,
    /// The contents of a file.
    pub contents: Vec<u8>,
}

impl Thing {
    /// Returns whether a property is true.
    pub fn flag(&self, property: &str) -> bool {
        self.properties.get(property).and_then(Value::as_bool) == Some(true)
    }

    /// Returns a property's text; the empty one if it has none.
    pub fn text(&self, property: &str) -> &str {
        self.properties.get(property).and_then(Value::as_str).unwrap_or_default()
    }

    /// Sets a property.
    pub fn set(&mut self, property: &str, value: impl Into<Value>) {
        self.properties.insert(property.to_owned(), value.into());
    }
}

/// All things, by address.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct Things(BTreeMap<String, Thing>);

impl Things {
    pub(super) fn get(&self, address: &str) -> Option<&Thing> {
        self.0.get(address)
    }

    /// Returns the thing at an address, which comes to be if it is not there: a file that nobody says more of is root's.
    pub(super) fn made(&mut self, address: &str) -> &mut Thing {
        self.0.entry(address.to_owned()).or_insert_with(|| {
            let mut thing = Thing::default();
            if address.starts_with("file:") {
                for (property, value) in [("owner", "root"), ("group", "root"), ("permissions", "0644")] {
                    thing.set(property, value);
                }
            }
            thing
        })
    }

    pub(super) fn remove(&mut self, address: &str) -> Option<Thing> {
        self.0.remove(address)
    }
}

/// Kinds of which a simulated host keeps the properties and nothing else.
pub(super) fn is_only_properties(kind: &str) -> bool {
    matches!(
        kind,
        "account"
            | "account_group"
            | "directory"
            | "link"
            | "kernel_setting"
            | "time_zone"
            | "host_name"
            | "trust_anchor"
            | "schedule"
    )
}
