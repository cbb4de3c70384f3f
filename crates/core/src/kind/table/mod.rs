//! The table of kinds: each declares itself once, and from that come parsing, checking, the JSON Schema, the reference
//! and the console's forms.

mod accounts;
mod files;
mod machine;
mod network;
mod packages;
mod programs;
mod services;

use super::claim::Claim;
use super::one::Kind;
use super::property::{Matcher, Property, ValueType};
use super::row::{KindRow, Naming};
use crate::nearest::nearest_word;
use std::sync::LazyLock;

/// Returns the kind of this name.
pub fn find(name: &str) -> Option<&'static Kind> {
    KINDS.iter().find(|kind| kind.name() == name)
}

/// Returns the kind of this name, of the table or of a kit's custom ones.
pub fn find_among<'k>(name: &str, custom_kinds: &'k [Kind]) -> Option<&'k Kind> {
    find(name).or_else(|| custom_kinds.iter().find(|kind| kind.name() == name))
}

/// Returns the name of the kind that is spelt most like `word`.
pub fn nearest(word: &str) -> Option<&'static str> {
    nearest_word(word, KINDS.iter().map(Kind::name))
}

/// Stands for a kind that this version does not know: a newer server may say one. Nothing of it is examined or corrected.
pub static UNKNOWN: Kind = Kind::Table(&KindRow {
    name: "unknown",
    noun: "thing",
    can_be_gone: false,
    correctable: false,
    naming: Naming::Free,
    claim: |name, _| Claim::Custom(String::new(), vec![name.to_owned()]),
    on_node: "",
    ..KindRow::PLAIN
});

/// Every kind, in the order in which they are listed.
pub static KINDS: LazyLock<Vec<Kind>> = LazyLock::new(|| {
    [
        files::KINDS,
        packages::KINDS,
        services::KINDS,
        accounts::KINDS,
        machine::KINDS,
        network::KINDS,
        programs::KINDS,
    ]
    .into_iter()
    .flatten()
    .map(Kind::Table)
    .collect()
});

/// A property that describes the node.
const fn property(name: &'static str, value: ValueType<'static>, note: &'static str) -> Property<'static> {
    Property {
        name,
        value,
        describes_node: true,
        concealed: false,
        required: false,
        identifies: false,
        default: None,
        matcher: Matcher::Equal,
        note,
    }
}

/// A property that only says how to get there.
const fn manner(name: &'static str, value: ValueType<'static>, note: &'static str) -> Property<'static> {
    Property { describes_node: false, matcher: Matcher::Never, ..property(name, value, note) }
}

/// A property without which a clause says nothing.
const fn required(property: Property<'static>) -> Property<'static> {
    Property { required: true, ..property }
}

/// A property that distinguishes the thing from others.
const fn identifying(property: Property<'static>) -> Property<'static> {
    Property { identifies: true, ..property }
}

/// A property that counts as this value if it is left out.
const fn with_default(property: Property<'static>, default: &'static str) -> Property<'static> {
    Property { default: Some(default), ..property }
}

const OWNER: Property = property("owner", ValueType::Text, "The account that owns it");
const GROUP: Property = property("group", ValueType::Text, "The account group that owns it");
const PERMISSIONS: Property =
    property("permissions", ValueType::Permissions, "Octal permissions in quotes, \"0640\"");
const IN: Property = identifying(required(property("in", ValueType::Path, "The file that it stands in")));

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::check_single;
    use crate::document::keys::{CLAUSE_KEYS, names};

    #[test]
    fn every_example_is_a_well_clause_of_its_kind() {
        for kind in KINDS.iter() {
            let document = format!("[baseline]\nname = \"example\"\n\n{}", kind.example());
            let checked = check_single("example.toml", document.into_bytes());
            let findings: Vec<String> = checked
                .findings
                .iter()
                .filter(|finding| finding.code != crate::document::Code::MissingFile)
                .map(|finding| format!("{} {}", finding.code, finding.message))
                .collect();
            assert_eq!(findings, Vec::<String>::new(), "{}", kind.name());
            assert!(kind.example().contains(&format!("what = \"{}:", kind.name())));
        }
    }

    #[test]
    fn names_of_kinds_and_properties_are_given_once() {
        for kind in KINDS.iter() {
            assert_eq!(
                KINDS.iter().filter(|other| other.name() == kind.name()).count(),
                1,
                "{}",
                kind.name()
            );
            for property in kind.properties() {
                assert_eq!(
                    kind.properties().filter(|other| other.name == property.name).count(),
                    1,
                    "{}.{}",
                    kind.name(),
                    property.name
                );
                assert!(
                    !names(CLAUSE_KEYS).any(|key| key == property.name),
                    "{}.{}",
                    kind.name(),
                    property.name
                );
            }
        }
    }
}
