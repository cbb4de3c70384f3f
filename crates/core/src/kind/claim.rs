//! What a clause keeps for itself, so that two clauses never keep the same thing unnoticed.

use serde::{Deserialize, Serialize};
use std::fmt;

/// The part of a node that one clause keeps.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Claim {
    /// What stands at a path, whatever kind keeps it.
    Path(String),
    /// A package.
    Package(String),
    /// A service.
    Service(String),
    /// An account.
    Account(String),
    /// A group of accounts.
    AccountGroup(String),
    /// A program's effect, known by the name of its clause only.
    Command(String),
}

impl fmt::Display for Claim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Path(path) => write!(f, "the path {path}"),
            Self::Package(name) => write!(f, "the package {name}"),
            Self::Service(name) => write!(f, "the service {name}"),
            Self::Account(name) => write!(f, "the account {name}"),
            Self::AccountGroup(name) => write!(f, "the account group {name}"),
            Self::Command(name) => write!(f, "the command {name}"),
        }
    }
}

/// Returns the claim of kinds that keep what stands at a path.
pub fn path_claim(name: &str) -> Claim {
    Claim::Path(name.to_owned())
}
