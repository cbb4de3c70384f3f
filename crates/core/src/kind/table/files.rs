//! Files, directories, links, and parts of files that others own.

use super::{GROUP, IN, OWNER, PERMISSIONS, identifying, manner, property, required, with_default};
use crate::kind::BuiltInKind;
use crate::kind::claim::{Claim, key_claim, line_claim, path_claim};
use crate::kind::property::{Matcher, Property, ValueType, Words};
use crate::kind::row::{KindRow, Naming};

/// How much of what is on the node is read.
const LARGEST: Property<'static> = with_default(
    manner(
        "largest_mib",
        ValueType::Mebibytes,
        "The largest file that is read, in MiB; a larger one is only known to be another",
    ),
    "64",
);

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::File.name(),
        noun: "file",
        purpose: "Keeps a whole file: its contents, ownership and permissions",
        achieves: &[
            "write a configuration file",
            "put a file in place",
            "fill in a template",
            "set the owner or permissions of a file",
            "delete a file",
        ],
        properties: &[
            property("text", ValueType::Contents, "The contents, written here"),
            property("copy", ValueType::KitPath, "The contents: a file of the kit's copies/ as it is"),
            property("render", ValueType::KitPath, "The contents: a file of the kit's renders/, rendered"),
            OWNER,
            GROUP,
            PERMISSIONS,
            manner(
                "check_with",
                ValueType::Argv,
                "A program that refuses new contents by a non-zero exit; {candidate} is their path",
            ),
            property(
                "banner",
                ValueType::Text,
                "A comment sign: the first line then says that the file is kept, and by which baseline",
            ),
            with_default(
                manner("attic", ValueType::Boolean, "Whether replaced contents go into the attic"),
                "true",
            ),
            LARGEST,
        ],
        either: &["text", "copy", "render"],
        naming: Naming::Path,
        claim: path_claim,
        claims: "the whole path",
        example: "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line. Authorised use only.\\n\"\npermissions = \"0644\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Directory.name(),
        noun: "directory",
        purpose: "Keeps a directory: that it is there, its ownership and permissions, and what may be in it",
        achieves: &["make a folder", "let only known files be in a folder", "remove a folder"],
        properties: &[
            OWNER,
            GROUP,
            PERMISSIONS,
            Property {
                matcher: Matcher::Nothing,
                ..property(
                    "only_known",
                    ValueType::Boolean,
                    "Entries that no clause names and no package owns are out of line; at most 20 are removed at once, into the attic",
                )
            },
        ],
        naming: Naming::Path,
        claim: path_claim,
        claims: "the path, not what lies below it",
        example: "[[clause]]\nwhat = \"directory:/etc/kiosk\"\npermissions = \"0755\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Tree.name(),
        noun: "tree of files",
        purpose: "Keeps a folder of the kit as a folder of the node, with all files in it",
        achieves: &["copy many files", "put a whole folder in place", "keep a directory tree"],
        properties: &[
            required(property("copy", ValueType::KitPath, "A folder of the kit's copies/")),
            OWNER,
            GROUP,
            property("file_permissions", ValueType::Permissions, "Octal permissions of its files, in quotes"),
            property(
                "dir_permissions",
                ValueType::Permissions,
                "Octal permissions of its directories, in quotes",
            ),
            Property {
                matcher: Matcher::Nothing,
                ..property("only_known", ValueType::Boolean, "What is not in the kit's folder is out of line")
            },
        ],
        naming: Naming::Path,
        claim: path_claim,
        claims: "the whole path with all that the kit's folder holds",
        example: "[[clause]]\nwhat = \"tree:/usr/share/kiosk/pages\"\ncopy = \"pages\"\nfile_permissions = \"0644\"\ndir_permissions = \"0755\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Link.name(),
        noun: "symbolic link",
        purpose: "Keeps a symbolic link",
        achieves: &["make a symlink", "point at another file"],
        properties: &[required(property("target", ValueType::LinkTarget, "What the link points at"))],
        naming: Naming::Path,
        claim: path_claim,
        claims: "the path of the link",
        example: "[[clause]]\nwhat = \"link:/etc/kiosk/current\"\ntarget = \"shell.conf\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Line.name(),
        noun: "line",
        purpose: "Keeps one line of a file that others own",
        achieves: &["add a line to a file", "replace a line in a file", "remove a line from a file"],
        properties: &[
            IN,
            identifying(required(property("text", ValueType::Text, "The line"))),
            identifying(manner(
                "match",
                ValueType::Pattern,
                "A regular expression: the line that is replaced; it must fit one line at most",
            )),
            with_default(
                manner(
                    "place",
                    ValueType::Text,
                    "Where a new line goes: `end`, `start`, or `after ` and a regular expression",
                ),
                "end",
            ),
        ],
        naming: Naming::Free,
        claim: line_claim,
        claims: "the lines of the file that `match` fits, or that are equal to it",
        example: "[[clause]]\nwhat = \"line:quay host\"\nin = \"/etc/hosts\"\ntext = \"192.0.2.10 hub.skerry.example\"\nmatch = '\\shub\\.skerry\\.example$'\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Setting.name(),
        noun: "setting",
        purpose: "Keeps one key of a file that others own; the rest of the file and its comments stay",
        achieves: &[
            "change one value in a configuration file",
            "set a key in an ini, toml, json or yaml file",
            "edit sshd_config",
        ],
        properties: &[
            IN,
            identifying(required(property(
                "key",
                ValueType::TextList,
                "The names that lead to it, as [\"Journal\", \"Storage\"]",
            ))),
            required(property("value", ValueType::Any, "Its value")),
            identifying(required(manner(
                "format",
                ValueType::Word(Words::Table(&["ini", "toml", "json", "yaml", "key=value", "key value"])),
                "How the file is written",
            ))),
        ],
        naming: Naming::Free,
        claim: key_claim,
        claims: "the key of the file",
        example: "[[clause]]\nwhat = \"setting:keep journals\"\nin = \"/etc/systemd/journald.conf\"\nkey = [\"Journal\", \"Storage\"]\nvalue = \"persistent\"\nformat = \"ini\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::TrustAnchor.name(),
        noun: "trusted certificate",
        purpose: "Keeps a CA certificate in the system's store of trusted ones",
        achieves: &["trust a certificate", "add a CA certificate", "stop trusting a CA"],
        properties: &[
            property("copy", ValueType::KitPath, "A PEM file of the kit's copies/"),
            property("pem", ValueType::Contents, "The certificate as PEM, written here"),
        ],
        either: &["copy", "pem"],
        needs_either: true,
        claim: |name, _| Claim::TrustAnchor(name.to_owned()),
        claims: "its entry in the store",
        on_node: "ca-certificates (Debian) or ca-trust (rpm)",
        example: "[[clause]]\nwhat = \"trust_anchor:skerry-line\"\ncopy = \"skerry-line.pem\"\n",
        ..KindRow::PLAIN
    },
];
