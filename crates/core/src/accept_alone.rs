//! Accepting what was found on one node for that node alone: the values of its own by which a clause desires just that.

use crate::accept::NotAcceptable;
use crate::compare::{Difference, PRESENCE, Side, found_text};
use crate::digest;
use crate::kind::ValueType;
use crate::state::{Clause, own_value};
use serde_json::Value;
use std::collections::BTreeMap;

/// Returns the values of properties by which one node alone desires what was found of a clause. `desired_text` are the contents that it
/// desires of a file, and `text_diff` is how those that were found differ.
///
/// # Errors
///
/// Returns why there are none. Whether they do is known only when the node is resolved with them.
pub fn values_alone(
    clause: &Clause,
    differences: &[Difference],
    desired_text: Option<&str>,
    text_diff: Option<&str>,
) -> Result<BTreeMap<String, Value>, NotAcceptable> {
    let refused = |because: String| NotAcceptable::Refused { because };
    let mut values = BTreeMap::new();
    for difference in differences {
        let name = difference.property.as_str();
        let (name, value) = match (&difference.wanted, &difference.found) {
            _ if name == PRESENCE => {
                return Err(refused("whether the thing exists is no property of it".to_owned()));
            }
            (Side::Concealed | Side::Unreadable { .. }, _)
            | (_, Side::Concealed | Side::Unreadable { .. }) => {
                return Err(NotAcceptable::NotKnown(name.to_owned()));
            }
            (_, Side::Value { value }) => (name.to_owned(), value.clone()),
            (_, Side::Content { digest, .. }) => {
                let known = desired_text
                    .zip(text_diff)
                    .and_then(|(desired, diff)| found_text(desired, diff))
                    .filter(|text| digest::of_contents(text.as_bytes()).as_str() == digest);
                let text = known.ok_or_else(|| NotAcceptable::NotKnown("what the file holds".to_owned()))?;
                (contents_property(clause)?, text.into())
            }
            (_, Side::Absent) => return Err(refused(format!("{name} is not there at all"))),
        };
        own_value(clause, &name, &value).map_err(|(because, _)| refused(because))?;
        values.insert(name, value);
    }
    if values.is_empty() {
        return Err(refused("nothing of it differs".to_owned()));
    }
    Ok(values)
}

/// Returns by which property a person writes the contents of a clause's thing.
fn contents_property(clause: &Clause) -> Result<String, NotAcceptable> {
    let kind = clause.kind();
    let named = kind.properties().find(|property| property.value == ValueType::Contents);
    named.map(|property| property.name.to_owned()).ok_or_else(|| NotAcceptable::Refused {
        because: format!("the contents of a {} are no value of its own", clause.address.kind()),
    })
}
