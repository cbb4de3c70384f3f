//! Who is known, and who may sign in.

use super::{identifying, manner, property, required};
use crate::kind::BuiltInKind;
use crate::kind::claim::{Claim, ssh_key_claim};
use crate::kind::property::{Property, ValueType};
use crate::kind::row::{KindRow, Naming};

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::Account.name(),
        noun: "account",
        purpose: "Keeps an account of the operating system, or keeps it away",
        achieves: &["add a user", "lock an account", "remove a user", "set a login shell", "set a password"],
        properties: &[
            property("uid", ValueType::Id, "Its number"),
            property("primary_group", ValueType::Text, "Its first group"),
            property("groups", ValueType::TextSet, "Its further groups: exactly these"),
            property("home", ValueType::Path, "Its home directory"),
            property("shell", ValueType::Path, "The program that runs at sign-in"),
            property("comment", ValueType::Text, "Its full name or purpose"),
            manner(
                "system",
                ValueType::Boolean,
                "Whether it is made as a system account; counts when it is made",
            ),
            property("locked", ValueType::Boolean, "Whether its password is locked"),
            Property {
                concealed: true,
                ..property("password_hash", ValueType::PasswordHash, "Its password as a crypt(5) hash")
            },
        ],
        claim: |name, _| Claim::Account(name.to_owned()),
        claims: "the account",
        on_node: "useradd, usermod, userdel",
        example: "[[clause]]\nwhat = \"account:kiosk\"\nsystem = true\nshell = \"/usr/sbin/nologin\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::AccountGroup.name(),
        noun: "account group",
        purpose: "Keeps a group of accounts of the operating system",
        achieves: &["add a group", "say who is in a group", "remove a group"],
        properties: &[
            property("gid", ValueType::Id, "Its number"),
            property("members", ValueType::TextSet, "The accounts listed in it: exactly these"),
        ],
        claim: |name, _| Claim::AccountGroup(name.to_owned()),
        claims: "the account group",
        on_node: "groupadd, groupmod, groupdel",
        example: "[[clause]]\nwhat = \"account_group:kiosk\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::SshKey.name(),
        noun: "key that may sign in",
        purpose: "Keeps a public key that may sign in to an account",
        achieves: &["let somebody sign in with a key", "add an authorized key", "take away ssh access"],
        properties: &[
            identifying(required(property("account", ValueType::Text, "The account that it may sign in to"))),
            identifying(required(property(
                "key",
                ValueType::SshKey,
                "The public key: its type and its base64",
            ))),
            property("options", ValueType::TextList, "What it is restricted to, as [\"restrict\"]"),
        ],
        naming: Naming::Free,
        claim: ssh_key_claim,
        claims: "the key within the account",
        example: "[[clause]]\nwhat = \"ssh_key:ilse@hub\"\naccount = \"ops\"\nkey = \"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIEAuken0Brisk0Corran0Dunmoy0Eldrey0Skerry0\"\n",
        ..KindRow::PLAIN
    },
];
