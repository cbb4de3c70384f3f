//! Accepting what was found on a node: which values of parameters desire it, and which groups can give them.

use super::one_node::OneNode;
use crate::here::Here;
use crate::problem::ApiError;
use crate::store::wanted;
use crate::thread::on_thread;
use constans_core::accept::{Values, acceptable_values, also_altered, is_as_found};
use constans_core::accept_alone::values_alone;
use constans_core::compare::Difference;
use constans_core::group::Group;
use constans_core::state::{Clause, OwnValue, Resolved};
use constans_wire::drift::{AcceptedAlone, AcceptedValue, AcceptingGroup};
use sqlx::PgConnection;
use std::collections::HashMap;
use uuid::Uuid;

/// What a run found of a clause.
pub struct Finding {
    /// The clause's address.
    pub clause: String,
    /// What differs.
    pub differences: Vec<Difference>,
    /// How the contents of a file differ, as a diff.
    pub text_diff: Option<String>,
}

/// The values by which it would be desired, and who can give them.
pub struct Accepting {
    /// The values, or why there are none.
    pub values: Result<Vec<AcceptedValue>, String>,
    /// The groups of the node, the highest first.
    pub groups: Vec<AcceptingGroup>,
    /// The values of properties that the node alone would have, or why there are none.
    pub alone: Result<Vec<AcceptedAlone>, String>,
}

/// Returns how what was found on a node can be accepted.
///
/// # Errors
///
/// Returns why documents or the node could not be read.
pub async fn accepting(
    db: &mut PgConnection,
    here: &Here,
    node: Uuid,
    found: Finding,
) -> Result<Accepting, ApiError> {
    let node = OneNode::read(&mut *db, here, node).await?;
    let mut accepting = on_thread(move || find(&node, &found)).await?;
    let names: Vec<String> = accepting.groups.iter().map(|group| group.name.clone()).collect();
    let members: HashMap<String, i64> = wanted::members(db, &names).await?.into_iter().collect();
    for group in &mut accepting.groups {
        group.nodes = members.get(&group.name).copied().unwrap_or_default().unsigned_abs();
    }
    Ok(accepting)
}

/// Returns a group that gives these values, and others as before.
#[must_use]
pub fn giving(group: &Group, values: &Values) -> Group {
    let mut group = group.clone();
    group.parameters.extend(values.clone());
    group
}

fn find(node: &OneNode, found: &Finding) -> Accepting {
    let groups = &node.groups;
    let refused =
        |because: String| Accepting { values: Err(because.clone()), groups: Vec::new(), alone: Err(because) };
    let (plan, now) = match node.by(groups) {
        Ok(now) => now,
        Err(because) => return refused(format!("its desired state cannot be resolved: {because}")),
    };
    let alone = alone(node, &now, found);
    let before = now.state.clauses;
    let Some(clause) = before.iter().find(|clause| clause.address.as_str() == found.clause) else {
        return refused("it is no longer desired on this node".to_owned());
    };
    let with = |name: &str, values: &Values| -> Result<Vec<Clause>, String> {
        let given = |group: &Group| if group.name == name { giving(group, values) } else { group.clone() };
        let groups: Vec<Group> = groups.iter().map(given).collect();
        Ok(node.by(&groups)?.1.state.clauses)
    };
    let highest = plan.groups.last().map_or("", String::as_str);
    let diff = found.text_diff.as_deref();
    let values =
        acceptable_values(clause, &found.differences, diff, &now.parameters, |values| with(highest, values));
    let values = match values {
        Ok(values) => values,
        Err(because) => {
            return Accepting { values: Err(because.to_string()), groups: Vec::new(), alone };
        }
    };
    let judged = |name: &String| {
        let mut group = AcceptingGroup { name: name.clone(), nodes: 0, why_not: None, also: Vec::new() };
        match with(name, &values) {
            Ok(after) if is_as_found(clause, &found.differences, &after) => {
                group.also = also_altered(&before, &after, Some(&clause.address));
            }
            Ok(after) if also_altered(&before, &after, None).is_empty() => {
                let from = values.keys().filter_map(|name| Some(now.parameters.get(name)?.from.words()));
                group.why_not =
                    Some(format!("{} has a higher priority", from.collect::<Vec<_>>().join(", ")));
            }
            Ok(_) => group.why_not = Some("it would not make it as it was found".to_owned()),
            Err(because) => group.why_not = Some(because),
        }
        group
    };
    let groups = plan.groups.iter().rev().map(judged).collect();
    let values = values.into_iter().filter_map(|(parameter, value)| {
        Some(AcceptedValue { now: now.parameters.get(&parameter)?.clone(), parameter, value })
    });
    Accepting { values: Ok(values.collect()), groups, alone }
}

/// Returns the values of properties by which the node alone would desire what was found.
fn alone(node: &OneNode, now: &Resolved, found: &Finding) -> Result<Vec<AcceptedAlone>, String> {
    let clause = now.state.clauses.iter().find(|clause| clause.address.as_str() == found.clause);
    let clause = clause.ok_or("it is no longer desired on this node")?;
    let desired = clause.text("content").and_then(|named| {
        let (_, bytes) = now.contents.iter().find(|(digest, _)| digest.as_str() == named)?;
        std::str::from_utf8(bytes).ok()
    });
    let values = values_alone(clause, &found.differences, desired, found.text_diff.as_deref())
        .map_err(|because| because.to_string())?;
    let mut own = node.own.clone();
    let properties = own.properties.entry(clause.address.clone()).or_default();
    properties.extend(
        values
            .iter()
            .map(|(property, value)| (property.clone(), OwnValue { value: value.clone(), until: None })),
    );
    let (_, after) = node.given(&own, &node.groups)?;
    if !is_as_found(clause, &found.differences, &after.state.clauses) {
        return Err("it would not make it as it was found".to_owned());
    }
    Ok(values.into_iter().map(|(property, value)| AcceptedAlone { property, value }).collect())
}
