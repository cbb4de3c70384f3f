//! What the table of kinds says of each kind and of each of its properties.

use super::claim::Claim;
use serde::{Deserialize, Serialize};

/// One kind of thing on a node.
pub struct Kind {
    /// Its name, the part of an address before the `:`.
    pub name: &'static str,
    /// What it is for, in words that people search by.
    pub purpose: &'static str,
    /// Its own properties, in the order in which they are shown.
    pub properties: &'static [Property],
    /// The reactions that it knows.
    pub reactions: &'static [Reaction],
    /// Whether its things can be wanted gone.
    pub can_be_gone: bool,
    /// Whether it can be corrected at all; what only looks cannot.
    pub correctable: bool,
    /// Whether its names are absolute paths.
    pub named_by_path: bool,
    /// What a clause of this name claims.
    pub claim: fn(&str) -> Claim,
    /// The shortest useful clause.
    pub example: &'static str,
}

impl Kind {
    /// Returns the property of this name.
    pub fn property(&self, name: &str) -> Option<&'static Property> {
        self.properties.iter().find(|property| property.name == name)
    }
}

impl std::fmt::Debug for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Kind({})", self.name)
    }
}

/// One property of a kind.
pub struct Property {
    /// Its name.
    pub name: &'static str,
    /// What values it takes.
    pub value: ValueType,
    /// Whether it describes the node; what only says how to get there does not enter the wanted digest.
    pub describes_node: bool,
    /// Whether its value is never shown.
    pub concealed: bool,
    /// How a found value is held against the wanted one.
    pub matcher: Matcher,
    /// What it means, in one line.
    pub note: &'static str,
}

/// The type of a property's value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueType {
    /// A text; integers and booleans are taken as text.
    Text,
    /// File contents as they are: a text that may have many lines.
    Contents,
    /// A path within the kit.
    KitPath,
    /// An absolute path on the node.
    Path,
    /// The target of a link, absolute or relative.
    LinkTarget,
    /// `true` or `false`.
    Boolean,
    /// A whole number from 0 to 2^32 − 2.
    Id,
    /// Octal digits in quotes, `"0640"`.
    Permissions,
    /// A set of texts: order and doubles do not count.
    TextSet,
    /// A program and its arguments.
    Argv,
    /// A path that exists, or a program that exits 0.
    Condition,
    /// Names and texts.
    TextMap,
    /// `"30s"`, `"5m"`, `"2h"`; normalised to seconds.
    Duration,
    /// Any, exact, pattern, range or `newest`.
    Version,
    /// A hash as crypt(5) writes it.
    PasswordHash,
}

/// How a found value is held against the wanted one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Matcher {
    /// Both are equal.
    Equal,
    /// The found version fits the wish.
    Version,
    /// The condition holds.
    Holds,
    /// The list of what should not be there is empty.
    Nothing,
    /// Not compared: it only says how.
    Never,
}

/// What is done to a clause's thing when something that it depends on was corrected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Reaction {
    /// Let the service read its configuration again.
    Reload,
    /// Run the command.
    Run,
    /// Stop and start the service; includes [`Reaction::Reload`].
    Restart,
}

impl Reaction {
    /// Returns the word that documents use.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reload => "reload",
            Self::Run => "run",
            Self::Restart => "restart",
        }
    }
}
