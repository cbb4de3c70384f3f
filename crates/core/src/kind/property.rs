//! What the table of kinds says of each kind and of each of its properties.

use super::claim::Claim;
use super::custom::CustomKind;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// One kind of thing on a node.
pub struct Kind {
    /// Its name, the part of an address before the `:`.
    pub name: &'static str,
    /// What a person calls one of it.
    pub noun: &'static str,
    /// What it is for.
    pub purpose: &'static str,
    /// What one wants to achieve by it, in words that people search by.
    pub achieves: &'static [&'static str],
    /// Its own properties, in the order in which they are shown.
    pub properties: &'static [Property],
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
    /// What the kit declares that teaches it, if one does.
    pub custom: Option<&'static CustomKind>,
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

impl Kind {
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
        custom: None,
        example: "",
    };

    /// Returns what a clause of this name and these properties claims.
    pub fn claim_of(&self, name: &str, properties: &BTreeMap<String, Value>) -> Claim {
        self.custom.map_or_else(|| (self.claim)(name, properties), |custom| custom.claim_of(name, properties))
    }

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
#[derive(Debug, Clone, Copy)]
pub struct Property {
    /// Its name.
    pub name: &'static str,
    /// What values it takes.
    pub value: ValueType,
    /// Whether it describes the node; what only says how to get there does not enter the wanted digest.
    pub describes_node: bool,
    /// Whether its value is never shown.
    pub concealed: bool,
    /// Whether a clause that is not `gone` must have it.
    pub required: bool,
    /// Whether it tells the thing apart from others of its kind, so that also what is `gone` has it.
    pub identifies: bool,
    /// What it counts as if it is left out, as a document would say it.
    pub default: Option<&'static str>,
    /// How a found value is compared with the wanted one.
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
    /// A whole number.
    Integer,
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
    /// A list of texts in which the order counts.
    TextList,
    /// One of these words.
    Word(&'static [&'static str]),
    /// Any value.
    Any,
    /// A regular expression.
    Pattern,
    /// An address that begins with `http://`, `https://` or `file:`.
    Url,
    /// 40 or 64 hexadecimal digits.
    Fingerprint,
    /// The five fields of cron.
    CronTime,
    /// A public key as OpenSSH writes it: type and base64.
    SshKey,
    /// The value of a kernel setting.
    SysctlValue,
    /// The name of a time zone.
    TimeZone,
    /// The name of a host.
    HostName,
    /// A port, from 1 to 65535.
    Port,
    /// A size in MiB, from 1 to 1024.
    Mebibytes,
    /// An IP address, or a network as `192.0.2.0/24`.
    Network,
    /// What must come of a program: its exit and a pattern of its output.
    Expectation,
}

impl ValueType {
    /// Says in a few words what it takes.
    pub fn words(self) -> String {
        match self {
            Self::Text => "text".to_owned(),
            Self::Contents => "text, may have many lines".to_owned(),
            Self::KitPath => "path below the kit's folder for it".to_owned(),
            Self::Path => "absolute path".to_owned(),
            Self::LinkTarget => "path".to_owned(),
            Self::Boolean => "true or false".to_owned(),
            Self::Id => "whole number from 0".to_owned(),
            Self::Integer => "whole number".to_owned(),
            Self::Permissions => "octal digits in quotes".to_owned(),
            Self::TextSet => "list of texts, order does not count".to_owned(),
            Self::TextList => "list of texts".to_owned(),
            Self::Argv => "list: program and arguments".to_owned(),
            Self::Condition => "path, or list: program and arguments".to_owned(),
            Self::TextMap => "map of texts".to_owned(),
            Self::Duration => "duration: \"30s\", \"5m\", \"2h\", \"1d\"".to_owned(),
            Self::Version => "version, pattern, range or \"newest\"".to_owned(),
            Self::PasswordHash => "crypt(5) hash".to_owned(),
            Self::Word(words) => {
                words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ")
            }
            Self::Any => "any value".to_owned(),
            Self::Pattern => "regular expression".to_owned(),
            Self::Url => "URL".to_owned(),
            Self::Fingerprint => "40 or 64 hexadecimal digits".to_owned(),
            Self::CronTime => "five fields of cron".to_owned(),
            Self::SshKey => "type and base64 of a public key".to_owned(),
            Self::SysctlValue => "text or number".to_owned(),
            Self::TimeZone => "name of a time zone".to_owned(),
            Self::HostName => "host name".to_owned(),
            Self::Port => "port from 1 to 65535".to_owned(),
            Self::Mebibytes => "size in MiB from 1 to 1024".to_owned(),
            Self::Network => "IP address or network".to_owned(),
            Self::Expectation => "map of `exit` and `stdout`".to_owned(),
        }
    }
}

/// How a found value is compared with the wanted one.
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
