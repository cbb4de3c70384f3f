//! The table of kinds.

use super::claim::{Claim, path_claim};
use super::nearest_word;
use super::property::{Kind, Matcher, Property, Reaction, ValueType};

/// Returns the kind of this name.
pub fn find(name: &str) -> Option<&'static Kind> {
    KINDS.iter().find(|kind| kind.name == name)
}

/// Returns the name of the kind that is spelt most like `word`.
pub fn nearest(word: &str) -> Option<&'static str> {
    nearest_word(word, KINDS.iter().map(|kind| kind.name))
}

const fn property(name: &'static str, value: ValueType, note: &'static str) -> Property {
    Property { name, value, describes_node: true, concealed: false, matcher: Matcher::Equal, note }
}

const fn manner(name: &'static str, value: ValueType, note: &'static str) -> Property {
    Property { name, value, describes_node: false, concealed: false, matcher: Matcher::Never, note }
}

const OWNER: Property = property("owner", ValueType::Text, "The account that owns it");
const GROUP: Property = property("group", ValueType::Text, "The account group that owns it");
const PERMISSIONS: Property = property("permissions", ValueType::Permissions, "Octal permissions in quotes, \"0640\"");

/// Every kind, in the order in which they are listed.
pub const KINDS: &[Kind] = &[
    Kind {
        name: "file",
        purpose: "Keeps a whole file: its contents, ownership and permissions",
        properties: &[
            property("text", ValueType::Contents, "The contents, written here"),
            property("copy", ValueType::KitPath, "The contents: a file of the kit's copies/ as it is"),
            property("render", ValueType::KitPath, "The contents: a file of the kit's renders/, rendered"),
            OWNER,
            GROUP,
            PERMISSIONS,
            manner("check_with", ValueType::Argv, "A program that refuses new contents by a non-zero exit; {candidate} is their path"),
            property("banner", ValueType::Text, "A comment sign: the first line then says that the file is kept, and by which baseline"),
            manner("attic", ValueType::Boolean, "Whether replaced contents go into the attic; true unless turned off"),
        ],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: true,
        claim: path_claim,
        example: "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line. Authorised use only.\\n\"\npermissions = \"0644\"\n",
    },
    Kind {
        name: "directory",
        purpose: "Keeps a directory: that it is there, its ownership and permissions, and what may be in it",
        properties: &[
            OWNER,
            GROUP,
            PERMISSIONS,
            Property {
                matcher: Matcher::Nothing,
                ..property("only_known", ValueType::Boolean, "Entries that no clause names and no package owns are out of line")
            },
        ],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: true,
        claim: path_claim,
        example: "[[clause]]\nwhat = \"directory:/etc/kiosk\"\npermissions = \"0755\"\n",
    },
    Kind {
        name: "link",
        purpose: "Keeps a symbolic link",
        properties: &[property("target", ValueType::LinkTarget, "What the link points at")],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: true,
        claim: path_claim,
        example: "[[clause]]\nwhat = \"link:/etc/kiosk/current\"\ntarget = \"shell.conf\"\n",
    },
    Kind {
        name: "package",
        purpose: "Keeps a package installed, in a version, or not installed",
        properties: &[
            Property {
                matcher: Matcher::Version,
                ..property("version", ValueType::Version, "Exact, a pattern \"3.2.*\", a range \">= 3.2, < 4\", or \"newest\"; any if left out")
            },
            property("hold", ValueType::Boolean, "Whether the package is held at its version"),
        ],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: false,
        claim: |name| Claim::Package(name.to_owned()),
        example: "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.*\"\n",
    },
    Kind {
        name: "service",
        purpose: "Keeps a service running or stopped, and started at boot or not",
        properties: &[
            property("running", ValueType::Boolean, "Whether it runs now"),
            property("enabled", ValueType::Boolean, "Whether it is started at boot"),
        ],
        reactions: &[Reaction::Restart, Reaction::Reload],
        can_be_gone: false,
        correctable: true,
        named_by_path: false,
        claim: |name| Claim::Service(name.strip_suffix(".service").unwrap_or(name).to_owned()),
        example: "[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\nenabled = true\nreacts_to = [\"file:/etc/kiosk/*\"]\nreaction = \"restart\"\n",
    },
    Kind {
        name: "account",
        purpose: "Keeps an account of the operating system, or keeps it away",
        properties: &[
            property("uid", ValueType::Id, "Its number"),
            property("primary_group", ValueType::Text, "Its first group"),
            property("groups", ValueType::TextSet, "Its further groups: exactly these"),
            property("home", ValueType::Path, "Its home directory"),
            property("shell", ValueType::Path, "The program that runs at sign-in"),
            property("comment", ValueType::Text, "Its full name or purpose"),
            manner("system", ValueType::Boolean, "Whether it is made as a system account; counts when it is made"),
            property("locked", ValueType::Boolean, "Whether its password is locked"),
            Property { concealed: true, ..property("password_hash", ValueType::PasswordHash, "Its password as a crypt(5) hash") },
        ],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: false,
        claim: |name| Claim::Account(name.to_owned()),
        example: "[[clause]]\nwhat = \"account:kiosk\"\nsystem = true\nshell = \"/usr/sbin/nologin\"\n",
    },
    Kind {
        name: "account_group",
        purpose: "Keeps a group of accounts of the operating system",
        properties: &[
            property("gid", ValueType::Id, "Its number"),
            property("members", ValueType::TextSet, "The accounts listed in it: exactly these"),
        ],
        reactions: &[],
        can_be_gone: true,
        correctable: true,
        named_by_path: false,
        claim: |name| Claim::AccountGroup(name.to_owned()),
        example: "[[clause]]\nwhat = \"account_group:kiosk\"\n",
    },
    Kind {
        name: "command",
        purpose: "Does what only a program can do, when a condition does not hold, or as a reaction",
        properties: &[
            property("argv", ValueType::Argv, "The program and its arguments"),
            property("shell", ValueType::Boolean, "Whether argv, then one text, goes through /bin/sh"),
            Property {
                matcher: Matcher::Holds,
                ..property(
                    "in_line_when",
                    ValueType::Condition,
                    "A path that exists, or a program and arguments that exit 0; without it only a reaction",
                )
            },
            property("account", ValueType::Text, "The account it runs as"),
            manner("timeout", ValueType::Duration, "How long it may take; 5m unless said otherwise"),
            property("env", ValueType::TextMap, "Its environment beside PATH, HOME and LANG"),
        ],
        reactions: &[Reaction::Run],
        can_be_gone: false,
        correctable: true,
        named_by_path: false,
        claim: |name| Claim::Command(name.to_owned()),
        example: "[[clause]]\nwhat = \"command:rebuild the lane index\"\nargv = [\"/usr/bin/kiosk-shell\", \"--index\"]\nin_line_when = \"/var/lib/kiosk/index\"\n",
    },
];
