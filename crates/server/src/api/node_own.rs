//! What one node is given by itself: seen and edited.

use super::change::repeated;
use super::group::{check_given, find};
use super::node_edit::edit;
use crate::body::JsonBody;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::node;
use crate::trust::{Allowed, GroupEdit as MayEditGroups, MayAsk, NodeRead};
use constans_core::change::{NodeDocument, NodeEdit, edit_own};
use constans_core::group::{GroupFinding, NodeOwn};
use constans_core::joining::Placement;
use constans_wire::group::{EditNode, MAX_GROUP_EDITS};
use constans_wire::kit::Changed;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use sqlx::{PgConnection, PgPool};
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
    caller: MayAsk<MayEditGroups>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, &caller.asker).await? {
        return Ok(Json(changed));
    }
    if wanted.edits.is_empty() || wanted.edits.len() > MAX_GROUP_EDITS {
        let because = format!("a change makes from 1 to {MAX_GROUP_EDITS} edits of a node");
        return Err(ApiError::invalid("edits", because));
    }
    let mut connection = db.acquire().await?;
    let before = document(&mut connection, name).await?;
    let own = edit_own(&before.own, &wanted.edits)
        .map_err(|error| ApiError::invalid("edits", error.to_string()))?;
    let findings = check_own(&mut connection, here, &own, format!("what the node {name} is given")).await?;
    drop(connection);
    let what = format!("what the node {name} is given by itself");
    let names = [name.to_owned()];
    let changed = edit(&names, &NodeEdit::Give(Box::new(own)), what, &wanted.how, &caller.asker, db, here)
        .await
        .map_err(|error| error.with_warnings(&findings))?
        .into_inner();
    Ok(Json(Changed { findings, ..changed }))
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
