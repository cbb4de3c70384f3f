//! The stable codes of findings.

use super::code_pages::CodePage;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A stable code of a finding, `C0120`. A code never changes its meaning and is never used again for another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Code {
    /// The text is not TOML 1.0.
    Syntax = 101,
    /// The file is not UTF-8, or larger than a document may be.
    Unreadable = 102,
    /// A value that TOML knows and kits do not: a date, NaN, an integer beyond 2^53.
    RefusedValue = 103,
    /// A key that is not known here.
    UnknownKey = 110,
    /// A key that must be there.
    MissingKey = 111,
    /// A value of the wrong type or range.
    WrongValue = 112,
    /// A document that is larger or deeper than any needs to be.
    TooLarge = 114,
    /// An address whose kind is not known.
    UnknownKind = 120,
    /// A kind of the kit's own that is not declared as it must be.
    CustomKind = 124,
    /// A text that is no address.
    NotAnAddress = 121,
    /// Properties that do not go together, or one that is missing.
    Properties = 123,
    /// Something that cannot be wanted gone.
    CannotBeGone = 125,
    /// A reaction that the kind does not know, or one that nothing sets off.
    Reaction = 126,
    /// A value that a parameter does not take.
    ParameterValue = 131,
    /// A parameter that the baseline does not declare.
    UnknownParameter = 132,
    /// A parameter without a value.
    MissingParameter = 133,
    /// A parameter that nothing uses.
    UnusedParameter = 134,
    /// A secret that the server does not have.
    UnknownSecret = 135,
    /// A secret where it would decide what is wanted.
    SecretDecides = 136,
    /// A condition that cannot be read or is too large.
    Condition = 140,
    /// A name that conditions do not know.
    ConditionName = 141,
    /// A label that no node has.
    UnknownLabel = 143,
    /// A `for` that does not go over a list or a map of its size.
    Loop = 142,
    /// A render that fails.
    Render = 150,
    /// A name that renders do not know.
    RenderName = 151,
    /// A file of the kit that is named and not there.
    MissingFile = 152,
    /// A file of the kit that nothing uses.
    UnusedFile = 153,
    /// Two clauses that want different things of one claim.
    ClaimConflict = 160,
    /// An address or a pattern that no clause fits.
    NothingFits = 161,
    /// Clauses that wait for each other in a circle.
    Circle = 162,
    /// A clause that would stop, remove or alter the agent itself.
    TouchesAgent = 163,
    /// Two clauses that can be referred to by one name.
    SameName = 164,
    /// The folder and the kit are called differently.
    FolderName = 170,
    /// A baseline without clauses, or a kit without baselines.
    Empty = 171,
    /// Replaced contents are not kept.
    AtticOff = 172,
    /// A baseline that the kit does not have.
    UnknownBaseline = 173,
    /// Baselines that include each other in a circle.
    IncludeCircle = 174,
    /// A kit of which no release is published.
    UnknownKit = 175,
    /// A control that the catalogue does not have.
    UnknownControl = 176,
    /// A requirement that no release fits.
    Unsolvable = 180,
    /// A kit that is used and not required.
    NotRequired = 181,
    /// A required kit that is not at hand, so that it cannot be looked into.
    NotAtHand = 182,
    /// A required kit that has errors of its own.
    RequiredNotWell = 183,
    /// A password in plain text, or a hash that is too weak.
    Password = 190,
    /// What looks like a secret in plain text.
    PlainSecret = 191,
    /// A file and a service that belong together and are not related.
    Unrelated = 200,
    /// A clause that may lock administrators out.
    LocksOut = 201,
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "C{:04}", *self as u16)
    }
}

impl<'de> Deserialize<'de> for Code {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        CodePage::find(&text)
            .map(|page| page.code)
            .ok_or_else(|| D::Error::custom(format!("`{text}` is no code of a finding")))
    }
}

impl Serialize for Code {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
