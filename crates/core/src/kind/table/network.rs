//! What may come in and go out, and what listens.

use super::{identifying, property, required};
use crate::kind::BuiltInKind;
use crate::kind::claim::Claim;
use crate::kind::property::{Matcher, Property, ValueType, Words};
use crate::kind::row::{KindRow, Naming};

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::PacketRule.name(),
        noun: "packet filter rule",
        purpose: "Keeps one rule of the packet filter",
        achieves: &[
            "open a port",
            "close a port",
            "firewall a service",
            "block traffic",
            "let only some addresses in",
        ],
        properties: &[
            required(property(
                "direction",
                ValueType::Word(Words::Table(&["in", "out", "forward"])),
                "Which way the packets go",
            )),
            property(
                "protocol",
                ValueType::Word(Words::Table(&["tcp", "udp", "icmp"])),
                "Their protocol; any if left out",
            ),
            property("port", ValueType::Port, "The port that they go to; any if left out"),
            property(
                "from",
                ValueType::Network,
                "The address or network that they come from; any if left out",
            ),
            required(property(
                "then",
                ValueType::Word(Words::Table(&["accept", "drop", "reject"])),
                "What happens to them",
            )),
        ],
        naming: Naming::Free,
        claim: |name, _| Claim::PacketRule(name.to_owned()),
        claims: "the rule of this name",
        on_node: "nftables",
        example: "[[clause]]\nwhat = \"packet_rule:nobody prints from outside\"\ndirection = \"in\"\nprotocol = \"tcp\"\nport = 631\nthen = \"drop\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Listening.name(),
        noun: "listening port",
        purpose: "Checks what listens on a port; never corrected",
        achieves: &["see that a port is closed", "see which program listens", "check open ports"],
        properties: &[
            identifying(property(
                "address",
                ValueType::Network,
                "The address that it listens on; any if left out",
            )),
            identifying(property("program", ValueType::Path, "The program that listens")),
        ],
        correctable: false,
        naming: Naming::Port,
        claim: |name, _| Claim::Listening(name.to_owned()),
        claims: "the port",
        on_node: "the kernel's tables",
        example: "[[clause]]\nwhat = \"listening:tcp/631\"\ngone = true\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Connects.name(),
        noun: "connection",
        purpose: "Checks whether a connection from this node to another machine is accepted; never corrected",
        achieves: &[
            "see that a machine cannot be reached",
            "prove that a firewall blocks",
            "check that a server is reached",
            "check a connection",
        ],
        properties: &[
            required(property("to", ValueType::Remote, "The other machine: a name or an IP address")),
            required(property("port", ValueType::Port, "Its TCP port")),
            required(property(
                "result",
                ValueType::Word(Words::Table(&[
                    "accepted",
                    "refused",
                    "timed_out",
                    "unreachable",
                    "not_accepted",
                ])),
                "What comes of it within 5 seconds; `not_accepted` is any but `accepted`",
            )),
        ],
        correctable: false,
        can_be_gone: false,
        naming: Naming::Free,
        claim: |name, _| Claim::Connects(name.to_owned()),
        claims: "the name of the clause",
        example: "[[clause]]\nwhat = \"connects:gates do not reach the printers\"\nto = \"192.0.2.40\"\nport = 631\nresult = \"not_accepted\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Probe.name(),
        noun: "probe",
        purpose: "Checks something by a program that changes nothing; never corrected",
        achieves: &[
            "check something with a script",
            "see that a web page answers",
            "prove what no other kind looks at",
        ],
        properties: &[
            required(property("argv", ValueType::Argv, "The program and its arguments")),
            Property {
                matcher: Matcher::Holds,
                ..required(property(
                    "expect",
                    ValueType::Expectation,
                    "What must come of it: { exit = 0, stdout = \"a regular expression\" }",
                ))
            },
        ],
        correctable: false,
        can_be_gone: false,
        naming: Naming::Free,
        claim: |name, _| Claim::Probe(name.to_owned()),
        claims: "the name of the probe",
        example: "[[clause]]\nwhat = \"probe:the tariffs are signed\"\nargv = [\"/usr/bin/gate-reader\", \"--verify-tariffs\"]\nexpect = { exit = 0 }\n",
        ..KindRow::PLAIN
    },
];
