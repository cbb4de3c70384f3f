//! What only a program can do.

use super::{manner, property, required, with_default};
use crate::kind::BuiltInKind;
use crate::kind::claim::Claim;
use crate::kind::property::{Matcher, Property, Reaction, ValueType};
use crate::kind::row::{KindRow, Naming};

pub(super) const KINDS: &[KindRow] = &[KindRow {
    name: BuiltInKind::Command.name(),
    noun: "command",
    purpose: "Does what only a program can do, when a condition does not hold, or as a reaction",
    achieves: &["run a script", "run a command when a file changed", "do something once", "rebuild an index"],
    properties: &[
        required(property("argv", ValueType::Argv, "The program and its arguments")),
        with_default(
            property("shell", ValueType::Boolean, "Whether argv, then one text, goes through /bin/sh"),
            "false",
        ),
        Property {
            matcher: Matcher::Holds,
            ..property(
                "in_line_when",
                ValueType::Condition,
                "A path that exists, or a program and arguments that exit 0; without it only a reaction",
            )
        },
        property("account", ValueType::Text, "The account it runs as"),
        with_default(manner("timeout", ValueType::Duration, "How long it may take"), "5m"),
        property("env", ValueType::TextMap, "Its environment beside PATH, HOME and LANG"),
    ],
    reactions: &[Reaction::Run],
    can_be_gone: false,
    naming: Naming::Free,
    claim: |name, _| Claim::Command(name.to_owned()),
    claims: "its name only: what it does is not known",
    example: "[[clause]]\nwhat = \"command:rebuild the lane index\"\nargv = [\"/usr/bin/kiosk-shell\", \"--index\"]\nin_line_when = \"/var/lib/kiosk/index\"\n",
    ..KindRow::PLAIN
}];
