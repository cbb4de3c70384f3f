//! Packages and where they come from.

use super::{manner, property, required, with_default};
use crate::kind::BuiltInKind;
use crate::kind::claim::Claim;
use crate::kind::property::{Matcher, Property, ValueType};
use crate::kind::row::KindRow;

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::Package.name(),
        noun: "package",
        purpose: "Keeps a package installed, in a version, or not installed",
        achieves: &[
            "install a program",
            "pin a version",
            "hold back an update",
            "upgrade to the newest",
            "remove a package",
            "uninstall software",
        ],
        properties: &[
            Property {
                matcher: Matcher::Version,
                ..property(
                    "version",
                    ValueType::Version,
                    "Exact, a pattern \"3.2.*\", a range \">= 3.2, < 4\", or \"newest\"; any if left out",
                )
            },
            property("hold", ValueType::Boolean, "Whether the package is held at its version"),
            manner(
                "only_alone",
                ValueType::Boolean,
                "Whether a change is refused with which other packages would go or change version",
            ),
        ],
        claim: |name, _| Claim::Package(name.to_owned()),
        claims: "the package",
        on_node: "apt and dpkg; dnf and rpm",
        example: "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.*\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::PackageSource.name(),
        noun: "package repository",
        purpose: "Keeps a repository that packages come from",
        achieves: &["add a package repository", "trust a repository's key", "remove a package source"],
        properties: &[
            required(property("url", ValueType::Url, "Where it is")),
            property("suite", ValueType::Text, "Its suite, as \"bookworm\""),
            property("parts", ValueType::TextList, "Its parts, as [\"main\"]"),
            property("signed_by", ValueType::KitPath, "Its key: a file of the kit's copies/"),
            property(
                "fingerprint",
                ValueType::Fingerprint,
                "The key's fingerprint: 40 or 64 hexadecimal digits",
            ),
            with_default(
                manner("refresh", ValueType::Duration, "How old its index may be before it is fetched anew"),
                "1d",
            ),
        ],
        claim: |name, _| Claim::PackageSource(name.to_owned()),
        claims: "the repository of this name",
        on_node: "apt; dnf",
        example: "[[clause]]\nwhat = \"package_source:skerry\"\nurl = \"https://packages.skerry.example/debian\"\nsuite = \"bookworm\"\nparts = [\"main\"]\n",
        ..KindRow::PLAIN
    },
];
