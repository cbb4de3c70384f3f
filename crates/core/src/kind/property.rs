//! What each property of a kind takes and how it is compared, and the reactions of kinds.

use serde::{Deserialize, Serialize};

/// One property of a kind.
#[derive(Debug, Clone, Copy)]
pub struct Property<'k> {
    /// Its name.
    pub name: &'k str,
    /// What values it takes.
    pub value: ValueType<'k>,
    /// Whether it describes the node; what only says how to get there does not enter the wanted digest.
    pub describes_node: bool,
    /// Whether its value is never shown.
    pub concealed: bool,
    /// Whether a clause that is not `gone` must have it.
    pub required: bool,
    /// Whether it distinguishes the thing from others of its kind; a `gone` clause has it, too.
    pub identifies: bool,
    /// What it counts as if it is left out, as a document would say it.
    pub default: Option<&'static str>,
    /// How a found value is compared with the wanted one.
    pub matcher: Matcher,
    /// What it means, in one line.
    pub note: &'k str,
}

/// The type of a property's value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueType<'k> {
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
    Word(Words<'k>),
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
    /// The name of a machine, or an IP address.
    Remote,
    /// A port, from 1 to 65535.
    Port,
    /// A size in MiB, from 1 to 1024.
    Mebibytes,
    /// An IP address, or a network as `192.0.2.0/24`.
    Network,
    /// What must come of a program: its exit and a pattern of its output.
    Expectation,
}

impl ValueType<'_> {
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
            Self::Remote => "host name or IP address".to_owned(),
            Self::Port => "port from 1 to 65535".to_owned(),
            Self::Mebibytes => "size in MiB from 1 to 1024".to_owned(),
            Self::Network => "IP address or network".to_owned(),
            Self::Expectation => "map of `exit` and `stdout`".to_owned(),
        }
    }
}

/// The words that a property takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Words<'k> {
    /// Those of the table of kinds.
    Table(&'static [&'static str]),
    /// Those that a kit declares.
    Declared(&'k [String]),
}

impl<'k> Words<'k> {
    /// Returns them in their order.
    pub fn iter(self) -> impl Iterator<Item = &'k str> {
        let (table, declared): (&[&'static str], &[String]) = match self {
            Self::Table(words) => (words, &[]),
            Self::Declared(words) => (&[], words),
        };
        table.iter().copied().chain(declared.iter().map(String::as_str))
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
