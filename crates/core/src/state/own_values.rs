//! Values of properties that one node is given by itself, in place of those that its baselines give.

use super::clause::Clause;
use super::digested::LastDigest;
use super::instantiate::{Content, Instantiated};
use crate::address::ClauseAddress;
use crate::digest;
use crate::document::{Code, Finding};
use crate::kind::{self, Matcher, Property, ValueType};
use crate::kit::Gone;
use crate::nearest::nearest_word;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Values of properties that a node is given by itself, by the address of their clause and their name.
pub type OwnProperties = BTreeMap<ClauseAddress, BTreeMap<String, OwnValue>>;

/// The value of a property that one node has by itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct OwnValue {
    /// The value.
    pub value: Value,
    /// When it ends: from then on the node has what its baselines say; never by itself if none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

/// A value that a node has by itself, and what it would have without.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReplacedValue {
    /// The clause.
    pub clause: ClauseAddress,
    /// The property.
    pub property: String,
    /// The node's own value.
    pub value: Value,
    /// The value that its baselines give; none if they give none. Contents are named by their digest.
    pub instead_of: Option<Value>,
    /// When it ends; never by itself if none.
    pub until: Option<Timestamp>,
}

/// Puts own values over those of the clauses that are there; for a clause that is not there they wait. Returns what they replaced.
pub(super) fn lay_over(
    own: &OwnProperties,
    drafts: &mut [Instantiated],
    findings: &mut Vec<Finding>,
) -> Vec<ReplacedValue> {
    let mut replaced = Vec::new();
    for (address, values) in own {
        let is_meant = |clause: &Clause| clause.address == *address || clause.also.contains(address);
        let Some(draft) = drafts.iter_mut().find(|draft| is_meant(&draft.clause)) else { continue };
        for (property, own) in values {
            match put(&mut draft.clause, property, own) {
                Ok((instead_of, content)) => {
                    draft.contents.extend(content);
                    replaced.push(ReplacedValue {
                        clause: address.clone(),
                        property: property.clone(),
                        value: own.value.clone(),
                        instead_of,
                        until: own.until,
                    });
                }
                Err((because, hint)) => findings.push(
                    Finding::error(
                        Code::WrongValue,
                        draft.place.clone(),
                        format!("the node's own value of {address} cannot be used: {because}"),
                    )
                    .maybe_hint(hint),
                ),
            }
        }
        // Its digest was that of what the kit says.
        draft.clause.wanted = digest::none();
        draft.clause.last_digest = LastDigest::default();
    }
    replaced
}

/// It is written into the contents, and is no property of its own then.
const PART_OF_CONTENTS: &str = "banner";

type Put = (Option<Value>, Option<Content>);

fn put(clause: &mut Clause, name: &str, own: &OwnValue) -> Result<Put, (String, Option<String>)> {
    let value = own_value(clause, name, &own.value)?;
    let kind = clause.kind();
    if kind.property(name).is_some_and(|property| property.value == ValueType::Contents) {
        let bytes = value.as_str().unwrap_or_default().as_bytes();
        let digest = digest::of_contents(bytes);
        let before = clause.properties.insert("content".to_owned(), digest.as_str().into());
        return Ok((before, Some((digest, bytes.into()))));
    }
    Ok((clause.properties.insert(name.to_owned(), value), None))
}

/// Returns the normal form of a value that a node is given by itself for a property of a clause.
///
/// # Errors
///
/// Returns why it cannot be given, and what to do.
pub fn own_value(clause: &Clause, name: &str, value: &Value) -> Result<Value, (String, Option<String>)> {
    if clause.gone != Gone::No {
        return Err((format!("{} must not exist on this node", clause.address), None));
    }
    let kind = clause.kind();
    let settable =
        || kind.properties().filter(|property| is_settable(property)).map(|property| property.name);
    let Some(property) = kind.property(name) else {
        let near = nearest_word(name, settable());
        let hint = near.map_or_else(
            || format!("it has {}", settable().collect::<Vec<_>>().join(", ")),
            |near| format!("did you mean `{near}`?"),
        );
        return Err((format!("a {} has no property `{name}`", kind.name()), Some(hint)));
    };
    let names_content = property.value == ValueType::Contents && clause.concealed.contains("content");
    if property.concealed || clause.concealed.contains(name) || names_content {
        let hint = "give it as a parameter of its baseline".to_owned();
        return Err((format!("`{name}` is concealed, and what a node is given is not"), Some(hint)));
    }
    if !is_settable(&property) {
        let hint =
            Some(format!("a {} can be given {}", kind.name(), settable().collect::<Vec<_>>().join(", ")));
        return Err((format!("`{name}` is not what is compared on the node"), hint));
    }
    kind::normalise(name, property.value, value).map_err(|refused| (refused.message, refused.hint))
}

/// Returns whether a node can be given a value of its own: what tells the thing from others, what lies in the kit and what only says how
/// stays as its baselines say.
fn is_settable(property: &Property<'_>) -> bool {
    property.describes_node
        && !property.identifies
        && !property.concealed
        && property.matcher != Matcher::Never
        && property.value != ValueType::KitPath
        && property.name != PART_OF_CONTENTS
}

/// Reads a value that a person typed without quotes, as the kind takes it: `permissions=640` as a text, `keys=3` as a number. `read` is
/// what it is by itself.
pub fn typed_value(address: &ClauseAddress, property: &str, text: &str, read: Value) -> Value {
    let value_type = kind::find(address.kind()).and_then(|kind| kind.property(property)).map(|one| one.value);
    match value_type {
        Some(value_type) if kind::normalise(property, value_type, &read).is_err() => {
            let as_text = Value::from(text);
            if kind::normalise(property, value_type, &as_text).is_ok() { as_text } else { read }
        }
        _ => read,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_is_typed_is_read_as_the_property_takes_it() {
        let typed = |address: &str, property: &str, text: &str, read: Value| {
            typed_value(&ClauseAddress::parse(address).unwrap(), property, text, read)
        };
        assert_eq!(typed("file:/etc/issue", "permissions", "640", json!(640)), json!("640"));
        assert_eq!(typed("file:/etc/issue", "permissions", "rw", json!("rw")), json!("rw"), "it stays wrong");
        assert_eq!(typed("service:nginx.service", "running", "false", json!(false)), json!(false));
        assert_eq!(typed("harbour/lamp:red", "bright", "3", json!(3)), json!(3), "a kit's own kind");
    }
}
