//! What a clause keeps for itself, so that two clauses never keep the same thing unnoticed.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fmt;

/// The part of a node that one clause keeps.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Claim {
    /// What is at a path, whatever kind keeps it.
    Path(String),
    /// One key of a file: the path, and the names that lead to it.
    Key(String, Vec<String>),
    /// Lines of a file: the path, and the line or the pattern that it fits.
    Line(String, String),
    /// A package.
    Package(String),
    /// A repository of packages.
    PackageSource(String),
    /// A service.
    Service(String),
    /// An entry of the schedule.
    Schedule(String),
    /// An account.
    Account(String),
    /// A group of accounts.
    AccountGroup(String),
    /// A key that may sign in: the account, and the key.
    SshKey(String, String),
    /// A CA certificate.
    TrustAnchor(String),
    /// A kernel setting.
    KernelSetting(String),
    /// A kernel module.
    KernelModule(String),
    /// A mount point.
    Mount(String),
    /// The clock's sources.
    ClockSources,
    /// The time zone.
    TimeZone,
    /// The host name.
    HostName,
    /// A rule of the packet filter.
    PacketRule(String),
    /// A port that is looked at.
    Listening(String),
    /// A connection that is tried, known by the name of its clause only.
    Connects(String),
    /// A probe, known by the name of its clause only.
    Probe(String),
    /// A program's effect, known by the name of its clause only.
    Command(String),
    /// A thing of a custom kind: the kind, and what distinguishes the thing from others.
    Custom(String, Vec<String>),
    /// What a newer server says that this version does not know: the clause is unsupported here.
    #[serde(untagged)]
    Unknown(UnknownClaim),
}

/// A claim that this version does not know, as it was received.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UnknownClaim(String);

impl Serialize for UnknownClaim {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serde_json::from_str::<Value>(&self.0).map_err(serde::ser::Error::custom)?.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for UnknownClaim {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Value::deserialize(deserializer).map(|received| Self(received.to_string()))
    }
}

impl Claim {
    /// Returns the path of a file of which it keeps a part only.
    pub fn part_of(&self) -> Option<&str> {
        match self {
            Self::Key(path, _) | Self::Line(path, _) => Some(path),
            _ => None,
        }
    }
}

impl fmt::Display for Claim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Path(path) => write!(f, "the path {path}"),
            Self::Key(path, key) => write!(f, "the key {} of {path}", key.join(".")),
            Self::Line(path, line) => write!(f, "the line `{line}` of {path}"),
            Self::Package(name) => write!(f, "the package {name}"),
            Self::PackageSource(name) => write!(f, "the package source {name}"),
            Self::Service(name) => write!(f, "the service {name}"),
            Self::Schedule(name) => write!(f, "the schedule entry {name}"),
            Self::Account(name) => write!(f, "the account {name}"),
            Self::AccountGroup(name) => write!(f, "the account group {name}"),
            Self::SshKey(account, _) => write!(f, "a key of the account {account}"),
            Self::TrustAnchor(name) => write!(f, "the trust anchor {name}"),
            Self::KernelSetting(name) => write!(f, "the kernel setting {name}"),
            Self::KernelModule(name) => write!(f, "the kernel module {name}"),
            Self::Mount(path) => write!(f, "the mount point {path}"),
            Self::ClockSources => write!(f, "the clock's sources"),
            Self::TimeZone => write!(f, "the time zone"),
            Self::HostName => write!(f, "the host name"),
            Self::PacketRule(name) => write!(f, "the packet rule {name}"),
            Self::Listening(port) => write!(f, "the port {port}"),
            Self::Connects(name) => write!(f, "the connection {name}"),
            Self::Probe(name) => write!(f, "the probe {name}"),
            Self::Command(name) => write!(f, "the command {name}"),
            Self::Custom(kind, parts) => write!(f, "the {kind} {}", parts.join(" ")),
            Self::Unknown(claim) => write!(f, "the unknown claim {}", claim.0),
        }
    }
}

type Properties = BTreeMap<String, Value>;

fn text(properties: &Properties, name: &str) -> String {
    properties.get(name).and_then(Value::as_str).unwrap_or_default().to_owned()
}

/// Returns the claim of kinds that keep what is at a path.
pub(super) fn path_claim(name: &str, _: &Properties) -> Claim {
    Claim::Path(name.to_owned())
}

/// Returns the claim of one key of a file.
pub(super) fn key_claim(_: &str, properties: &Properties) -> Claim {
    let names = properties.get("key").and_then(Value::as_array).into_iter().flatten();
    Claim::Key(text(properties, "in"), names.filter_map(Value::as_str).map(str::to_owned).collect())
}

/// Returns the claim of one line of a file.
pub(super) fn line_claim(_: &str, properties: &Properties) -> Claim {
    let what = if properties.contains_key("match") { "match" } else { "text" };
    Claim::Line(text(properties, "in"), text(properties, what))
}

/// Returns the claim of a key that may sign in.
pub(super) fn ssh_key_claim(_: &str, properties: &Properties) -> Claim {
    Claim::SshKey(text(properties, "account"), text(properties, "key"))
}
