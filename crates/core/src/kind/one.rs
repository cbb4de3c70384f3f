//! One kind: a row of the table, or what a kit declares.

use super::claim::Claim;
use super::custom::CustomKind;
use super::property::{Property, Reaction};
use super::row::{KindRow, Naming};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;

/// One kind of thing on a node.
#[derive(Clone)]
pub enum Kind {
    /// One that Constans brings.
    Table(&'static KindRow),
    /// One that a kit declares.
    Declared(Arc<CustomKind>),
}

impl Kind {
    /// Returns its name, the part of an address before the `:`.
    pub fn name(&self) -> &str {
        match self {
            Self::Table(row) => row.name,
            Self::Declared(custom) => &custom.name,
        }
    }

    /// Returns what a person calls one of it.
    pub fn noun(&self) -> &str {
        match self {
            Self::Table(row) => row.noun,
            Self::Declared(custom) => &custom.name,
        }
    }

    /// Returns what it is for.
    pub fn purpose(&self) -> &str {
        match self {
            Self::Table(row) => row.purpose,
            Self::Declared(custom) => &custom.summary,
        }
    }

    /// Returns what one wants to achieve by it, in words that people search by.
    pub fn achieves(&self) -> &'static [&'static str] {
        self.row().map_or(&[], |row| row.achieves)
    }

    /// Returns its own properties, in the order in which they are shown.
    pub fn properties(&self) -> impl Iterator<Item = Property<'_>> + Clone {
        let (table, declared): (&[Property<'_>], _) = match self {
            Self::Table(row) => (row.properties, None),
            Self::Declared(custom) => (&[], Some(custom)),
        };
        let declared = declared.into_iter().flat_map(|custom| custom.declared_properties());
        table.iter().copied().chain(declared)
    }

    /// Returns the property of this name.
    pub fn property(&self, name: &str) -> Option<Property<'_>> {
        self.properties().find(|property| property.name == name)
    }

    /// Returns the properties of which a clause has one at most.
    pub fn either(&self) -> &'static [&'static str] {
        self.row().map_or(&[], |row| row.either)
    }

    /// Returns whether a clause must have one of these.
    pub fn needs_either(&self) -> bool {
        self.row().is_some_and(|row| row.needs_either)
    }

    /// Returns the reactions that it knows.
    pub fn reactions(&self) -> &'static [Reaction] {
        self.row().map_or(&[], |row| row.reactions)
    }

    /// Returns whether its things can be wanted gone.
    pub fn can_be_gone(&self) -> bool {
        match self {
            Self::Table(row) => row.can_be_gone,
            Self::Declared(custom) => custom.can_be_gone,
        }
    }

    /// Returns whether it can be corrected at all; what only looks cannot.
    pub fn correctable(&self) -> bool {
        match self {
            Self::Table(row) => row.correctable,
            Self::Declared(custom) => custom.correctable,
        }
    }

    /// Returns what its names look like.
    pub fn naming(&self) -> Naming {
        self.row().map_or(Naming::Free, |row| row.naming)
    }

    /// Returns what a clause of this name and these properties claims.
    pub fn claim_of(&self, name: &str, properties: &BTreeMap<String, Value>) -> Claim {
        match self {
            Self::Table(row) => (row.claim)(name, properties),
            Self::Declared(custom) => custom.claim_of(name, properties),
        }
    }

    /// Says what a clause of it claims.
    pub fn claims(&self) -> String {
        match self {
            Self::Table(row) => row.claims.to_owned(),
            Self::Declared(custom) if custom.claim.is_empty() => "its name".to_owned(),
            Self::Declared(custom) => custom.claim.join(", "),
        }
    }

    /// Says what it needs on the node.
    pub fn on_node(&self) -> &'static str {
        self.row().map_or("the program that the kit brings", |row| row.on_node)
    }

    /// Returns what else a person should know of it; only kits say it.
    pub fn docs(&self) -> &str {
        self.custom().map_or("", |custom| &custom.docs)
    }

    /// Returns the shortest useful clause.
    pub fn example(&self) -> &str {
        match self {
            Self::Table(row) => row.example,
            Self::Declared(custom) => &custom.example,
        }
    }

    /// Returns what the kit declares that brings it, if one does.
    pub fn custom(&self) -> Option<&Arc<CustomKind>> {
        match self {
            Self::Table(_) => None,
            Self::Declared(custom) => Some(custom),
        }
    }

    fn row(&self) -> Option<&'static KindRow> {
        match self {
            Self::Table(row) => Some(row),
            Self::Declared(_) => None,
        }
    }
}

impl std::fmt::Debug for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Kind({})", self.name())
    }
}
