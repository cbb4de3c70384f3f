//! What one node is given by itself: seen and edited.

use super::change::repeated;
use super::group::{check_given, find};
use super::node_edit::edit;
use super::temporary::check_ends;
use crate::body::JsonBody;
use crate::change::one_node::OneNode;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::node;
use crate::thread::on_thread;
use crate::trust::{Allowed, Asker, GroupEdit as MayEditGroups, MayAskWithin, NodeRead};
use constans_core::change::{GroupEdit, NodeDocument, NodeEdit, edit_own};
use constans_core::group::{GroupFinding, NodeOwn};
use constans_core::joining::Placement;
use constans_core::nearest::nearest_word;
use constans_core::state::own_value;
use constans_wire::change::HowToChange;
use constans_wire::group::{EditNode, MAX_GROUP_EDITS};
use constans_wire::kit::Changed;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeMap;
use std::slice;
use std::sync::Arc;

/// What a node is given by itself, over what its groups give it.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodeOwn)))]
#[get("/api/nodes/<name>/own")]
pub async fn show(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<NodeOwn> {
    Ok(Json(document(&mut *db.acquire().await?, name).await?.own))
}

/// Edits what a node is given by itself, all or none: baselines, parameters and settings as of a group.
#[utoipa::path(tag = "nodes", security(("token" = ["group.edit"]), ("session" = ["group.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = EditNode, responses((status = 200, body = Changed)))]
#[post("/api/nodes/<name>/edits", data = "<wanted>")]
pub async fn edits(
    name: &str,
    wanted: JsonBody<EditNode>,
    caller: MayAskWithin<MayEditGroups>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let asker = caller.for_names(db, &[name.to_owned()]).await?;
    give(name, &wanted.edits, &wanted.how, &asker, db, here).await
}

/// Gives a node something else by itself, as a change.
///
/// # Errors
///
/// Returns why it cannot be given that.
pub async fn give(
    name: &str,
    edits: &[GroupEdit],
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, asker).await? {
        return Ok(Json(changed));
    }
    if edits.is_empty() || edits.len() > MAX_GROUP_EDITS {
        let because = format!("a change makes from 1 to {MAX_GROUP_EDITS} edits of a node");
        return Err(ApiError::invalid("edits", because));
    }
    check_ends(edits, how.because.as_deref())?;
    let mut connection = db.acquire().await?;
    let before = document(&mut connection, name).await?;
    let own = edit_own(&before.own, edits).map_err(|error| ApiError::invalid("edits", error.to_string()))?;
    let values = check_own_values(&mut connection, here, name, &before.own, edits).await?;
    let findings = check_own(&mut connection, here, &own, format!("what the node {name} is given")).await?;
    drop(connection);
    let what = what_is_given(name, &values, edits);
    let names = [name.to_owned()];
    let changed = edit(&names, &NodeEdit::Give(Box::new(own)), what, how, asker, db, here)
        .await
        .map_err(|error| error.with_warnings(&findings))?
        .into_inner();
    Ok(Json(Changed { findings, ..changed }))
}

/// This many edits are told one by one.
const MAX_TOLD: usize = 3;
/// This many characters of a value are told.
const MAX_VALUE: usize = 60;

/// Says what a change does: what each property had and has, if it is about nothing else.
fn what_is_given(name: &str, values: &[String], edits: &[GroupEdit]) -> String {
    let taken = edits.iter().filter_map(|edit| match edit {
        GroupEdit::Property { clause, property, value: None, .. } => {
            Some(format!("{property} of {clause} as its baselines say"))
        }
        _ => None,
    });
    let told: Vec<String> = values.iter().cloned().chain(taken).collect();
    if told.len() == edits.len() && told.len() <= MAX_TOLD {
        return format!("{name} alone: {}", told.join(", "));
    }
    format!("what the node {name} is given by itself")
}

fn shortened(value: &Value) -> String {
    let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let line = text.lines().next().unwrap_or_default();
    let short: String = line.chars().take(MAX_VALUE).collect();
    if short.len() == text.len() { text } else { format!("{short}…") }
}

async fn document(db: &mut PgConnection, name: &str) -> Result<NodeDocument, ApiError> {
    let missing = || ApiError::Missing { what: "node", name: name.to_owned() };
    let id = node::by_name(&mut *db, name).await?.ok_or_else(missing)?;
    node::documents(db, slice::from_ref(&id)).await?.pop().map(|(_, document)| document).ok_or_else(missing)
}

/// Checks what a node is given by itself as strictly as a group. Returns the warnings.
async fn check_own(
    db: &mut PgConnection,
    here: &Here,
    own: &NodeOwn,
    of: String,
) -> Result<Vec<GroupFinding>, ApiError> {
    let Some(group) = own.as_group() else { return Ok(Vec::new()) };
    check_given(&group)?;
    let findings = find(db, here, &group).await?;
    if findings.iter().any(|finding| finding.is_error) {
        return Err(ApiError::Group { of, findings });
    }
    Ok(findings)
}

/// Refuses values of single properties that would not count: of clauses that the node does not have, of what its kind does not take, and
/// those whose time is over. Returns what each replaces, in words.
async fn check_own_values(
    db: &mut PgConnection,
    here: &Here,
    name: &str,
    before: &NodeOwn,
    edits: &[GroupEdit],
) -> Result<Vec<String>, ApiError> {
    let given: Vec<_> = edits
        .iter()
        .filter_map(|edit| match edit {
            GroupEdit::Property { clause, property, value: Some(value), until } => {
                Some((clause.clone(), property.clone(), value.clone(), *until))
            }
            _ => None,
        })
        .collect();
    if given.is_empty() {
        return Ok(Vec::new());
    }
    let now = crate::clock::now();
    if let Some(until) = given.iter().find_map(|(.., until)| until.filter(|until| *until <= now)) {
        return Err(ApiError::invalid("edits", format!("{until} is over: give an end to come, or none")));
    }
    let missing = || ApiError::Missing { what: "node", name: name.to_owned() };
    let id = node::by_name(&mut *db, name).await?.ok_or_else(missing)?;
    let one = OneNode::read(db, here, id).await?;
    // What it is given already does not stand in the way of putting that right.
    let without = NodeOwn { properties: BTreeMap::new(), ..before.clone() };
    let tried = on_thread(move || one.given(&without, &one.groups)).await?;
    let (_, resolved) = tried.map_err(|because| ApiError::Conflict {
        message: format!("the desired state of {name} cannot be resolved: {because}"),
        hint: format!("put that right first: constans node why {name}"),
    })?;
    let mut words = Vec::new();
    for (address, property, value, until) in &given {
        let Some(at) = resolved.state.position(address) else {
            let known = resolved.state.clauses.iter().map(|clause| clause.address.as_str());
            let near = nearest_word(address.as_str(), known)
                .map_or_else(String::new, |near| format!("; did you mean {near}?"));
            return Err(ApiError::invalid("edits", format!("{name} has no clause {address}{near}")));
        };
        let clause = &resolved.state.clauses[at];
        let after = own_value(clause, property, value).map_err(|(because, hint)| {
            let hint = hint.map_or_else(String::new, |hint| format!("; {hint}"));
            ApiError::invalid("edits", format!("{address}: {because}{hint}"))
        })?;
        let before =
            clause.get(property).map_or_else(String::new, |before| format!("{} → ", shortened(before)));
        let end = until
            .map_or_else(String::new, |until| format!(" until {}", until.strftime("%Y-%m-%d %H:%M UTC")));
        words.push(format!("{property} of {address} {before}{}{end}", shortened(&after)));
    }
    Ok(words)
}

/// Checks where new nodes are placed: what they are assigned by themselves is published.
///
/// # Errors
///
/// Returns what is wrong.
pub async fn check_placement(
    db: &mut PgConnection,
    here: &Here,
    placement: &Placement,
) -> Result<(), ApiError> {
    check_own(db, here, &placement.own(), "what the new nodes are given".to_owned()).await.map(drop)
}
