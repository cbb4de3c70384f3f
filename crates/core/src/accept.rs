//! Accepting what was found: the values of parameters by which a clause desires just that.
//!
//! Which values could do it is guessed from the two sides of each difference, and then tried: only values by which the clause
//! comes out as it was found are an answer.

use crate::address::ClauseAddress;
use crate::compare::{Difference, PRESENCE, Side};
use crate::kit::Gone;
use crate::param::ParameterValue;
use crate::state::Clause;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// So many combinations of values are tried at most.
const MAX_TRIES: usize = 64;

/// Values by the names of their parameters, `KIT/BASELINE.PARAM`.
pub type Values = BTreeMap<String, Value>;

/// Why no values make a clause desire what was found.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotAcceptable {
    /// Its values are concealed, or could not be read.
    #[error("{0} is not known: it is concealed or could not be read")]
    NotKnown(String),
    /// Nothing of it comes from a parameter.
    #[error("what differs does not come from parameters")]
    NoParameter,
    /// Values were found, and they do not do.
    #[error("{because}")]
    Refused {
        /// Why, with the values.
        because: String,
    },
}

/// Returns the values of parameters by which a clause desires what was found instead. `parameters` are those of the node as they
/// are, `text_diff` is how its contents differ, and `resolve` returns the node's clauses with other values.
///
/// # Errors
///
/// Returns why there are none.
pub fn acceptable_values(
    clause: &Clause,
    differences: &[Difference],
    text_diff: Option<&str>,
    parameters: &BTreeMap<String, ParameterValue>,
    mut resolve: impl FnMut(&Values) -> Result<Vec<Clause>, String>,
) -> Result<Values, NotAcceptable> {
    if let Some(hidden) = differences.iter().find(|one| is_hidden(one)) {
        return Err(NotAcceptable::NotKnown(hidden.property.clone()));
    }
    let prefixes: Vec<String> =
        clause.origins.iter().map(|origin| format!("{}/{}.", origin.kit, origin.baseline)).collect();
    let own = parameters.iter().filter(|(name, _)| prefixes.iter().any(|prefix| name.starts_with(prefix)));
    let own: Vec<(&String, &Value)> = own.map(|(name, value)| (name, &value.value)).collect();
    let mut tries = vec![Values::new()];
    for pair in pairs(differences, text_diff) {
        let candidates: BTreeSet<(&String, String)> = own
            .iter()
            .flat_map(|(name, value)| pair.values_for(value).into_iter().map(move |value| (*name, value)))
            .map(|(name, value)| (name, value.to_string()))
            .collect();
        // Without a guess for a line the others may do: what is tried decides.
        if !candidates.is_empty() {
            tries = tries
                .iter()
                .flat_map(|known| candidates.iter().filter_map(|(name, value)| with(known, name, value)))
                .take(MAX_TRIES)
                .collect();
        }
    }
    tries.retain(|values| !values.is_empty());
    let mut refused = None;
    for values in tries {
        let because = match resolve(&values) {
            Ok(clauses) if is_as_found(clause, differences, &clauses) => return Ok(values),
            Ok(_) => format!("{} would not make it as it was found", words(&values)),
            Err(because) => format!("{} would be needed: {because}", words(&values)),
        };
        refused.get_or_insert(because);
    }
    Err(refused.map_or(NotAcceptable::NoParameter, |because| NotAcceptable::Refused { because }))
}

/// Returns the addresses of the clauses that are desired otherwise than before, other than one, in order.
pub fn also_altered(before: &[Clause], after: &[Clause], but: Option<&ClauseAddress>) -> Vec<String> {
    let desired = |clauses: &[Clause]| -> BTreeMap<String, String> {
        clauses.iter().map(|one| (one.address.to_string(), one.wanted.as_str().to_owned())).collect()
    };
    let (before, after) = (desired(before), desired(after));
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let is_but = |name: &str| but.is_some_and(|but| but.as_str() == name);
    names.into_iter().filter(|name| !is_but(name) && before.get(*name) != after.get(*name)).cloned().collect()
}

fn is_hidden(difference: &Difference) -> bool {
    [&difference.wanted, &difference.found]
        .iter()
        .any(|side| matches!(side, Side::Concealed | Side::Unreadable { .. }))
}

/// Two values of which the first is desired and the second was found.
enum Pair {
    Whole { desired: Value, found: Value },
    Line { desired: String, found: String },
    Presence,
}

fn pairs(differences: &[Difference], text_diff: Option<&str>) -> Vec<Pair> {
    let mut all = Vec::new();
    for difference in differences {
        match (&difference.wanted, &difference.found) {
            _ if difference.property == PRESENCE => all.push(Pair::Presence),
            (Side::Value { value: desired }, Side::Value { value: found }) => {
                all.push(Pair::Whole { desired: desired.clone(), found: found.clone() });
            }
            (Side::Content { .. }, Side::Content { .. }) => all.extend(lines(text_diff.unwrap_or_default())),
            _ => {}
        }
    }
    all
}

/// Pairs the lines of a diff that took each other's place.
fn lines(diff: &str) -> Vec<Pair> {
    let (mut all, mut found, mut desired) = (Vec::new(), Vec::new(), Vec::new());
    // The first two name the sides.
    for line in diff.lines().skip(2).chain([" "]) {
        match line.split_at_checked(1) {
            Some(("-", line)) => found.push(line.to_owned()),
            Some(("+", line)) => desired.push(line.to_owned()),
            _ => all.extend(
                desired.drain(..).zip(found.drain(..)).map(|(desired, found)| Pair::Line { desired, found }),
            ),
        }
    }
    all
}

impl Pair {
    /// Returns what a parameter with this value could be instead.
    fn values_for(&self, now: &Value) -> Vec<Value> {
        match self {
            Self::Presence => now.as_bool().map(|now| Value::from(!now)).into_iter().collect(),
            Self::Whole { found, .. } if now.is_array() || now.is_object() => {
                Some(found.clone()).filter(|found| found.is_array() == now.is_array()).into_iter().collect()
            }
            Self::Whole { desired, found } if desired == now => vec![found.clone()],
            Self::Whole { desired, found } => match (text_of(desired), text_of(found)) {
                (Some(desired), Some(found)) => in_its_place(&desired, &found, now),
                _ => Vec::new(),
            },
            Self::Line { desired, found } => in_its_place(desired, found, now),
        }
    }
}

/// Returns the values that in place of this one make a text another.
fn in_its_place(desired: &str, found: &str, now: &Value) -> Vec<Value> {
    let Some(now_text) = text_of(now).filter(|text| !text.is_empty()) else { return Vec::new() };
    let middle = |(at, _): (usize, &str)| {
        let (before, after) = (&desired[..at], &desired[at + now_text.len()..]);
        read_like(now, found.strip_prefix(before)?.strip_suffix(after)?)
    };
    // The diff is the node's: whatever it repeats, no more than this is looked at.
    desired.match_indices(&now_text).take(MAX_TRIES).filter_map(middle).collect()
}

fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(flag) => Some(flag.to_string()),
        _ => None,
    }
}

/// Reads a text as a value of the same type as another.
fn read_like(like: &Value, text: &str) -> Option<Value> {
    match like {
        Value::Number(_) => {
            text.parse::<i64>().map(Value::from).or_else(|_| text.parse::<f64>().map(Value::from)).ok()
        }
        Value::Bool(_) => text.parse::<bool>().map(Value::from).ok(),
        _ => Some(Value::from(text)),
    }
}

/// Adds a value to others; none if they have another one for its parameter.
fn with(known: &Values, name: &str, value: &str) -> Option<Values> {
    let value: Value = serde_json::from_str(value).ok()?;
    let mut all = known.clone();
    let first = all.entry(name.to_owned()).or_insert_with(|| value.clone());
    (*first == value).then_some(all)
}

/// Returns whether clauses desire just what was found of one.
pub fn is_as_found(clause: &Clause, differences: &[Difference], clauses: &[Clause]) -> bool {
    let is_absent = |side: &Side| side.words() == "absent";
    let Some(new) = clauses.iter().find(|one| one.address == clause.address) else {
        return differences.iter().any(|one| one.property == PRESENCE && is_absent(&one.found));
    };
    if let Some(presence) = differences.iter().find(|one| one.property == PRESENCE) {
        return (new.gone != Gone::No) == is_absent(&presence.found) && new.gone != clause.gone;
    }
    let mut expected = clause.properties.clone();
    for difference in differences {
        let value = match &difference.found {
            Side::Value { value } => value.clone(),
            Side::Content { digest, .. } => Value::from(digest.as_str()),
            _ => return false,
        };
        expected.insert(difference.property.clone(), value);
    }
    new.properties == expected && new.gone == clause.gone
}

fn words(values: &Values) -> String {
    values.iter().map(|(name, value)| format!("{name} = {value}")).collect::<Vec<_>>().join(", ")
}
