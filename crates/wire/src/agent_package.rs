//! The packages by which the agent is installed, and the line that does it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt;

/// How a package is built.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PackageFormat {
    /// As Debian's are.
    Deb,
    /// As Fedora's and openSUSE's are.
    Rpm,
}

impl fmt::Display for PackageFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Deb => "deb",
            Self::Rpm => "rpm",
        })
    }
}

/// A package of the agent that the server serves.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AgentPackage {
    /// Its version.
    pub version: String,
    /// How it is built.
    pub format: PackageFormat,
    /// The processors that it is for, as its format calls them: `amd64`, `x86_64`.
    pub architecture: String,
    /// The oldest C library (glibc) that it works with.
    pub glibc: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its SHA-256, in hexadecimal digits.
    pub sha256: String,
    /// Who added it.
    pub added_by: String,
    /// When.
    pub added_at: Timestamp,
}

/// A package that was added.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AddedPackage {
    /// Itself.
    pub package: AgentPackage,
    /// Whether it was there already, byte for byte.
    pub was_there: bool,
    /// Earlier versions that are no longer served: the server's own and the two before are.
    pub left: Vec<AgentPackage>,
}

/// The line that installs the agent on a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InstallLine {
    /// The line, to be pasted into a shell of the machine.
    pub line: String,
    /// The versions that it installs, by what for: of each format and architecture the newest that is served.
    pub installs: Vec<AgentPackage>,
    /// What it installs on, in words: one system each.
    pub systems: Vec<String>,
}
