//! Differences between wanted and found, property by property, and the found digest.

use super::found::{Found, FoundValue, Presence};
use crate::digest::{self, ByName, Canonical, Digest, DigestKey};
use crate::kind::{Matcher, VersionRequirement};
use crate::kit::Gone;
use crate::state::{Clause, Compared};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The scheme of found digests.
pub const FOUND_SCHEME: &str = "f1";
/// The name under which a difference says that a thing is there or not.
pub const PRESENCE: &str = "presence";

/// One property that is not as wanted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Difference {
    /// The property.
    pub property: String,
    /// How it should be.
    pub wanted: Side,
    /// How it was found.
    pub found: Side,
}

/// One side of a difference.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Side {
    /// This value.
    Value {
        /// In normal form.
        value: Value,
    },
    /// File contents.
    Content {
        /// Their digest.
        digest: String,
        /// Their size in bytes.
        bytes: u64,
    },
    /// A value that is never shown.
    Concealed,
    /// Nothing.
    Absent,
    /// Something that could not be read.
    Unreadable {
        /// Why.
        reason: String,
    },
}

impl Side {
    /// Takes a value as a side.
    pub fn value(value: impl Into<Value>) -> Self {
        Self::Value { value: value.into() }
    }

    /// Returns it in words.
    pub fn words(&self) -> String {
        match self {
            Self::Value { value: Value::String(text) } => text.clone(),
            Self::Value { value: Value::Array(items) } if items.is_empty() => "none".to_owned(),
            Self::Value { value: Value::Array(items) } => items
                .iter()
                .map(|item| item.as_str().map_or_else(|| item.to_string(), str::to_owned))
                .collect::<Vec<_>>()
                .join(" "),
            Self::Value { value: Value::Object(entries) } if entries.is_empty() => "none of it".to_owned(),
            Self::Value { value: Value::Object(entries) } => {
                let short = |value: &Value| {
                    value
                        .as_str()
                        .map_or_else(|| value.to_string(), |text| text.get(..19).unwrap_or(text).to_owned())
                };
                entries
                    .iter()
                    .map(|(name, value)| format!("{name} {}", short(value)))
                    .collect::<Vec<_>>()
                    .join(", ")
            }
            Self::Value { value: Value::Bool(true) } => "yes".to_owned(),
            Self::Value { value: Value::Bool(false) } => "no".to_owned(),
            Self::Value { value } => value.to_string(),
            Self::Content { digest, bytes } => {
                format!("{bytes} bytes, {}", digest.get(..19).unwrap_or(digest))
            }
            Self::Concealed => "(concealed)".to_owned(),
            Self::Absent => "nothing".to_owned(),
            Self::Unreadable { reason } => format!("could not be read: {reason}"),
        }
    }
}

/// Returns the properties in which what was found differs from what is wanted, in the order of the kind's table.
///
/// A property that could not be read is a difference: no answer is never a match. `content_bytes` is the size of the
/// wanted contents of a file.
pub fn differences(clause: &Clause, found: &Found, content_bytes: Option<u64>) -> Vec<Difference> {
    differences_in(&clause.compared(), clause, found, content_bytes)
}

/// Returns the same of what is [`Clause::compared`].
pub(crate) fn differences_in(
    compared: &[Compared<'_>],
    clause: &Clause,
    found: &Found,
    content_bytes: Option<u64>,
) -> Vec<Difference> {
    let presence = |wanted: &str, usual: &str| {
        let found = found.words.as_deref().unwrap_or(usual);
        vec![Difference {
            property: PRESENCE.to_owned(),
            wanted: Side::value(wanted),
            found: Side::value(found),
        }]
    };
    let missing = |found: &str| {
        let mut all = presence("present", found);
        all.extend(compared.iter().filter_map(|(property, wanted, matcher)| {
            missing_property(clause, property, wanted, *matcher, content_bytes)
        }));
        all
    };
    match (clause.gone, found.presence) {
        (Gone::No, Presence::Present) => {}
        (Gone::No, Presence::Absent) => return missing("absent"),
        (Gone::No, Presence::Broken) => return missing("half-installed"),
        (Gone::Yes | Gone::WithSettings, Presence::Broken) => return presence("gone", "half-installed"),
        (Gone::No, Presence::Remnant) => return missing("only its settings"),
        (Gone::Yes, Presence::Present) => return presence("gone", "present"),
        (Gone::WithSettings, Presence::Present) => return presence("gone, with its settings", "present"),
        (Gone::WithSettings, Presence::Remnant) => {
            return presence("gone, with its settings", "only its settings");
        }
        (Gone::Yes | Gone::WithSettings, Presence::Absent | Presence::Remnant) => return Vec::new(),
    }
    compared
        .iter()
        .filter_map(|(property, wanted, matcher)| {
            difference_of(clause, property, wanted, *matcher, found, content_bytes)
        })
        .collect()
}

fn difference_of(
    clause: &Clause,
    property: &str,
    wanted: &Value,
    matcher: Matcher,
    found: &Found,
    content_bytes: Option<u64>,
) -> Option<Difference> {
    let concealed = clause.concealed.contains(property);
    if matcher == Matcher::Never {
        return None;
    }
    let (wanted_side, found_side) = match found.get(property) {
        Some(FoundValue::NotExaminedHere(_)) => return None,
        Some(FoundValue::Value(value)) if matches(matcher, wanted, value, found) => return None,
        Some(FoundValue::Value(value)) => sides(matcher, property, wanted, value, found, content_bytes),
        Some(FoundValue::Unreadable(reason)) => (
            plain_side(matcher, property, wanted, content_bytes),
            Side::Unreadable { reason: reason.clone() },
        ),
        None => (plain_side(matcher, property, wanted, content_bytes), Side::Absent),
    };
    let hide = |side: Side| {
        if concealed && !matches!(side, Side::Unreadable { .. } | Side::Absent) {
            Side::Concealed
        } else {
            side
        }
    };
    Some(Difference { property: property.to_owned(), wanted: hide(wanted_side), found: hide(found_side) })
}

/// Every wanted property of a thing that is not there is a difference, too: it says what will be.
fn missing_property(
    clause: &Clause,
    property: &str,
    wanted: &Value,
    matcher: Matcher,
    content_bytes: Option<u64>,
) -> Option<Difference> {
    let side = || {
        if clause.concealed.contains(property) {
            Side::Concealed
        } else {
            plain_side(matcher, property, wanted, content_bytes)
        }
    };
    (matcher != Matcher::Never).then(|| Difference {
        property: property.to_owned(),
        wanted: side(),
        found: Side::Absent,
    })
}

fn matches(matcher: Matcher, wanted: &Value, value: &Value, found: &Found) -> bool {
    match matcher {
        Matcher::Equal => wanted == value,
        Matcher::Version => {
            let requirement =
                wanted.as_str().and_then(|requirement| VersionRequirement::parse(requirement).ok());
            requirement.zip(value.as_str()).is_some_and(|(requirement, value)| {
                requirement.fits(value, found.candidate.as_deref(), found.version_order)
            })
        }
        Matcher::Holds => *value == Value::Bool(true),
        Matcher::Nothing => wanted != &Value::Bool(true) || value.as_array().is_some_and(Vec::is_empty),
        Matcher::Never => true,
    }
}

fn sides(
    matcher: Matcher,
    property: &str,
    wanted: &Value,
    value: &Value,
    found: &Found,
    content_bytes: Option<u64>,
) -> (Side, Side) {
    if let (Value::Object(all_wanted), Value::Object(all_found)) = (wanted, value) {
        let unlike = |one: &Map<String, Value>, other: &Map<String, Value>| {
            Side::value(
                one.iter()
                    .filter(|(name, value)| other.get(*name) != Some(value))
                    .map(|(name, value)| (name.clone(), value.clone()))
                    .collect::<Map<_, _>>(),
            )
        };
        return (unlike(all_wanted, all_found), unlike(all_found, all_wanted));
    }
    let found_side = match matcher {
        Matcher::Holds => Side::value(value.as_str().unwrap_or("does not hold")),
        _ if property == "content" => Side::Content {
            digest: value.as_str().unwrap_or_default().to_owned(),
            bytes: found.size.unwrap_or(0),
        },
        _ => Side::value(value.clone()),
    };
    let wanted_side = match (matcher, found.candidate.as_deref()) {
        (Matcher::Version, Some(candidate)) if wanted == "newest" => {
            Side::value(format!("newest, which is {candidate}"))
        }
        _ => plain_side(matcher, property, wanted, content_bytes),
    };
    (wanted_side, found_side)
}

fn plain_side(matcher: Matcher, property: &str, wanted: &Value, content_bytes: Option<u64>) -> Side {
    match matcher {
        Matcher::Nothing => Side::value("no other entries"),
        Matcher::Holds => Side::value(match wanted {
            Value::String(path) => format!("{path} exists"),
            Value::Object(expected) => expectation_words(expected),
            other => format!("`{}` exits 0", Side::value(other.clone()).words()),
        }),
        _ if property == "content" => Side::Content {
            digest: wanted.as_str().unwrap_or_default().to_owned(),
            bytes: content_bytes.unwrap_or(0),
        },
        _ => Side::value(wanted.clone()),
    }
}

/// Says what a program is expected to do.
fn expectation_words(expected: &Map<String, Value>) -> String {
    let exit = expected.get("exit").map(|exit| format!("exit status {exit}"));
    let stdout =
        expected.get("stdout").and_then(Value::as_str).map(|pattern| format!("output that fits `{pattern}`"));
    exit.into_iter().chain(stdout).collect::<Vec<_>>().join(", and ")
}

/// Computes the found digest: over the wanted properties as they were found. What is concealed enters keyed.
pub fn found_digest(clause: &Clause, found: &Found, key: &DigestKey) -> Digest {
    found_digest_of(&clause.compared(), clause, found, key)
}

/// Returns the same of what is [`Clause::compared`].
pub(crate) fn found_digest_of(
    compared: &[Compared<'_>],
    clause: &Clause,
    found: &Found,
    key: &DigestKey,
) -> Digest {
    let of_property = |name: &str| match found.get(name)? {
        FoundValue::Value(value) if clause.concealed.contains(name) => {
            Some(DigestedFound::Named(key.digest(&digest::canonical(value))))
        }
        FoundValue::Value(value) => Some(DigestedFound::Plain(Canonical(value))),
        FoundValue::Unreadable(_) => Some(DigestedFound::Unreadable { unreadable: true }),
        FoundValue::NotExaminedHere(_) => None,
    };
    let properties = compared.iter().filter_map(|(name, ..)| Some((*name, of_property(name)?))).collect();
    digest::of_sorted(FOUND_SCHEME, &FoundDigestInput { presence: found.presence, properties })
}

/// What a found digest is over, in the order of the names.
#[derive(Serialize)]
struct FoundDigestInput<'f> {
    presence: Presence,
    properties: ByName<'f, DigestedFound<'f>>,
}

#[derive(Serialize)]
#[serde(untagged)]
enum DigestedFound<'f> {
    Named(Digest),
    Plain(Canonical<'f>),
    Unreadable { unreadable: bool },
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::testing::clause;
    use serde_json::json;

    fn table(differences: &[Difference]) -> String {
        differences
            .iter()
            .map(|difference| {
                format!(
                    "{}  wanted {}, found {}\n",
                    difference.property,
                    difference.wanted.words(),
                    difference.found.words()
                )
            })
            .collect()
    }

    #[test]
    fn unreadable_property_is_a_difference() {
        let wanted = clause("file:/etc/issue").with("permissions", "0644");
        let found =
            Found::present().with_found("permissions", FoundValue::Unreadable("permission denied".into()));
        insta::assert_snapshot!(table(&differences(&wanted, &found, None)), @"permissions  wanted 0644, found could not be read: permission denied");
    }

    #[test]
    fn what_cannot_exist_here_is_left_out() {
        let wanted = clause("file:/etc/issue").with("owner", "root").with("permissions", "0644");
        let found = Found::present()
            .with_found("owner", FoundValue::NotExaminedHere("unprivileged".into()))
            .with("permissions", "0644");
        assert_eq!(differences(&wanted, &found, None), []);
    }

    #[test]
    fn differences_stand_in_the_order_of_the_table_and_say_both_sides() {
        let wanted = clause("file:/etc/issue")
            .with("permissions", "0644")
            .with("owner", "root")
            .with("content", "sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaa");
        let found = Found {
            size: Some(3),
            ..Found::present()
                .with("permissions", "0600")
                .with("owner", "ops")
                .with("content", "sha256:bbbbbbbbbbbbbbbbbbbb")
        };
        insta::assert_snapshot!(table(&differences(&wanted, &found, Some(12))), @r"
        content  wanted 12 bytes, sha256:aaaaaaaaaaaa, found 3 bytes, sha256:bbbbbbbbbbbb
        owner  wanted root, found ops
        permissions  wanted 0644, found 0600
        ");
    }

    #[test]
    fn presence_comes_before_any_property() {
        let found = Found::absent();
        insta::assert_snapshot!(table(&differences(&clause("package:kiosk-shell").with("version", "3.2.*"), &found, None)), @r"
        presence  wanted present, found absent
        version  wanted 3.2.*, found nothing
        ");
    }

    #[test]
    fn settings_of_a_removed_package_count_only_if_they_are_to_go() {
        let remnant = Found { presence: Presence::Remnant, ..Found::absent() };
        assert_eq!(differences(&clause("package:spare").gone(Gone::Yes), &remnant, None), []);
        insta::assert_snapshot!(table(&differences(&clause("package:spare").gone(Gone::WithSettings), &remnant, None)), @"presence  wanted gone, with its settings, found only its settings");
    }

    #[test]
    fn concealed_values_are_told_apart_and_never_shown() {
        let wanted = clause("account:ops").with("password_hash", "$y$a$b$c").conceal("password_hash");
        let found = Found::present().with("password_hash", "$y$a$b$d");
        insta::assert_snapshot!(table(&differences(&wanted, &found, None)), @"password_hash  wanted (concealed), found (concealed)");
        let key = DigestKey::new("k");
        assert_ne!(
            found_digest(&wanted, &found, &key),
            found_digest(&wanted, &Found::present().with("password_hash", "$y$a$b$e"), &key)
        );
    }

    #[test]
    fn a_version_fits_its_wish_and_newest_names_the_candidate() {
        let wanted = clause("package:kiosk-shell").with("version", "newest");
        let found = Found { candidate: Some("3.2.2".into()), ..Found::present().with("version", "3.2.1") };
        insta::assert_snapshot!(table(&differences(&wanted, &found, None)), @"version  wanted newest, which is 3.2.2, found 3.2.1");
        assert_eq!(differences(&clause("package:kiosk-shell").with("version", "3.2.*"), &found, None), []);
    }

    #[test]
    fn unknown_entries_of_a_directory_are_listed() {
        let wanted = clause("directory:/etc/kiosk").with("only_known", true);
        let found = Found::present().with("only_known", json!(["old.conf", "x"]));
        insta::assert_snapshot!(table(&differences(&wanted, &found, None)), @"only_known  wanted no other entries, found old.conf x");
    }

    #[test]
    fn only_a_commands_condition_is_compared() {
        let wanted = clause("command:index")
            .with("argv", json!(["/bin/x"]))
            .with("in_line_when", json!(["/bin/test", "-e", "/i"]));
        insta::assert_snapshot!(table(&differences(&wanted, &Found::present().with("in_line_when", false), None)), @"in_line_when  wanted `/bin/test -e /i` exits 0, found does not hold");
    }
}
