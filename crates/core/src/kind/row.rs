//! What the table says of one kind.

use super::claim::Claim;
use super::property::{Property, Reaction};
use serde_json::Value;
use std::collections::BTreeMap;

/// One kind of the table.
pub struct KindRow {
    /// Its name, the part of an address before the `:`.
    pub name: &'static str,
    /// What a person calls one of it.
    pub noun: &'static str,
    /// What it is for.
    pub purpose: &'static str,
    /// What one wants to achieve by it, in words that people search by.
    pub achieves: &'static [&'static str],
    /// Its own properties, in the order in which they are shown.
    pub properties: &'static [Property<'static>],
    /// Properties of which a clause has one at most.
    pub either: &'static [&'static str],
    /// Whether it must have one of these.
    pub needs_either: bool,
    /// The reactions that it knows.
    pub reactions: &'static [Reaction],
    /// Whether its things can be wanted gone.
    pub can_be_gone: bool,
    /// Whether it can be corrected at all; what only looks cannot.
    pub correctable: bool,
    /// What its names look like.
    pub naming: Naming,
    /// What a clause of this name and these properties claims.
    pub claim: fn(&str, &BTreeMap<String, Value>) -> Claim,
    /// What it claims, in words.
    pub claims: &'static str,
    /// What it needs on the node.
    pub on_node: &'static str,
    /// The shortest useful clause.
    pub example: &'static str,
}

impl KindRow {
    /// What most kinds have in common; names and properties are each kind's own.
    pub(super) const PLAIN: Self = Self {
        name: "",
        noun: "",
        purpose: "",
        achieves: &[],
        properties: &[],
        either: &[],
        needs_either: false,
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        naming: Naming::Plain,
        claim: |name, _| Claim::Command(name.to_owned()),
        claims: "",
        on_node: "nothing beyond the operating system",
        example: "",
    };
}

/// What the names of a kind look like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Naming {
    /// An absolute path.
    Path,
    /// Letters, digits and `+ - . _ @ :`.
    Plain,
    /// The name of a kernel setting.
    Sysctl,
    /// `tcp/22`.
    Port,
    /// Any words.
    Free,
}

impl Naming {
    /// Says it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Path => "an absolute path",
            Self::Plain => "letters, digits and + - . _ @ :, not beginning with -",
            Self::Sysctl => "the setting's name, as net.ipv4.ip_forward",
            Self::Port => "protocol and port, as tcp/22",
            Self::Free => "any words",
        }
    }

    /// Returns whether a name is one; a path is looked at elsewhere.
    pub fn fits(self, name: &str) -> bool {
        let plain = |c: char| c.is_alphanumeric() || "+-._@:".contains(c);
        match self {
            Self::Path | Self::Free => true,
            Self::Plain => name.chars().all(plain) && !name.starts_with('-'),
            Self::Sysctl => {
                name.chars().all(|c| c.is_ascii_alphanumeric() || "._-/@".contains(c)) && !name.contains("..")
            }
            Self::Port => {
                let parts = name.split_once('/');
                parts.is_some_and(|(protocol, port)| {
                    matches!(protocol, "tcp" | "udp") && port.parse::<u16>().is_ok_and(|port| port > 0)
                })
            }
        }
    }
}
