//! What runs, and when.

use super::{property, required};
use crate::kind::BuiltInKind;
use crate::kind::claim::Claim;
use crate::kind::property::{Reaction, ValueType};
use crate::kind::row::{KindRow, Naming};

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::Service.name(),
        noun: "service",
        purpose: "Keeps a service running or stopped, and started at boot or not",
        achieves: &[
            "start a daemon",
            "stop a service",
            "start at boot",
            "restart when the configuration changes",
            "disable a service",
        ],
        properties: &[
            property("running", ValueType::Boolean, "Whether it runs now"),
            property("enabled", ValueType::Boolean, "Whether it is started at boot"),
        ],
        reactions: &[Reaction::Restart, Reaction::Reload],
        can_be_gone: false,
        claim: |name, _| Claim::Service(name.strip_suffix(".service").unwrap_or(name).to_owned()),
        claims: "the unit",
        on_node: "systemd, or runit (`via`)",
        example: "[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\nenabled = true\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Schedule.name(),
        noun: "scheduled job",
        purpose: "Keeps one cron entry",
        achieves: &["run something every night", "add a cron job", "do something at fixed hours"],
        properties: &[
            required(property(
                "at",
                ValueType::CronTime,
                "Five fields: minute, hour, day of month, month, day of week",
            )),
            required(property("argv", ValueType::Argv, "The program and its arguments")),
            required(property("account", ValueType::Text, "The account it runs as")),
        ],
        naming: Naming::Free,
        claim: |name, _| Claim::Schedule(name.to_owned()),
        claims: "the entry of this name",
        on_node: "cron",
        example: "[[clause]]\nwhat = \"schedule:empty the spool\"\nat = \"15 3 * * *\"\nargv = [\"/usr/bin/kiosk-shell\", \"--empty-spool\"]\naccount = \"kiosk\"\n",
        ..KindRow::PLAIN
    },
];
