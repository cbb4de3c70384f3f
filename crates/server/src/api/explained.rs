//! What nodes are given, explained when it is asked for: all layers of a value, what a node would get, how settings differ.

use super::overview::{Narrowed, narrowed, undecided};
use crate::body::JsonBody;
use crate::change::one_node::OneNode;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::{node, wanted};
use crate::thread::on_thread;
use crate::trust::{Allowed, NodeRead};
use constans_core::group::NodeLayers;
use constans_core::settings::{AlikeNodes, compare_settings};
use constans_core::words::{check_label, check_node_name};
use constans_wire::explained::{SettingsComparison, UnacknowledgedNode, WouldBeNode, WouldGet};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;

/// All layers of the settings and parameters of a node, the replaced ones too.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodeLayers)))]
#[get("/api/nodes/<name>/layers")]
pub async fn layers(
    name: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<NodeLayers> {
    let mut connection = db.acquire().await?;
    let id = id_of(&mut connection, name).await?;
    let one = OneNode::read(&mut connection, here, id).await?;
    drop(connection);
    on_thread(move || one.layers()).await?.map(Json).map_err(|because| ApiError::Conflict {
        message: format!("the desired state of {name} cannot be resolved: {because}"),
        hint: format!("put that right first: constans node why {name}"),
    })
}

/// What a node would get by the desired state as it is now, whether there is such a node or not. Nothing is stored.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), request_body = WouldBeNode, responses((status = 200, body = WouldGet)))]
#[post("/api/would-get", data = "<asked>")]
pub async fn would_get(
    asked: JsonBody<WouldBeNode>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<WouldGet> {
    let WouldBeNode { name, labels, like } = asked.0;
    check_node_name(&name).map_err(|because| ApiError::invalid("name", because))?;
    if labels.len() > MAX_LABELS {
        return Err(ApiError::invalid("labels", format!("a node has at most {MAX_LABELS} labels here")));
    }
    labels
        .iter()
        .try_for_each(|(key, value)| check_label(key, value))
        .map_err(|because| ApiError::invalid("labels", because))?;
    let mut connection = db.acquire().await?;
    let like = match like {
        Some(like) => Some(id_of(&mut connection, &like).await?),
        None => None,
    };
    let one = OneNode::would_be(&mut connection, here, name, labels, like).await?;
    drop(connection);
    Ok(Json(on_thread(move || one.would_get()).await?))
}

const MAX_LABELS: usize = 50;

async fn id_of(db: &mut sqlx::PgConnection, name: &str) -> Result<Uuid, ApiError> {
    let missing = || ApiError::Missing { what: "node", name: name.to_owned() };
    node::by_name(db, name).await?.ok_or_else(missing)
}

/// How the settings of the agents of a filter's nodes differ, and which nodes did not acknowledge what they are given yet.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
), responses((status = 200, body = SettingsComparison)))]
#[get("/api/settings-comparison?<filter>")]
pub async fn settings(
    filter: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<SettingsComparison> {
    let db = db.inner();
    let Narrowed { by, undecidable } = narrowed(db, filter, crate::clock::now()).await?;
    let undecidable = undecidable + undecided(db, &by).await?;
    let alike: Vec<AlikeNodes> = wanted::alike_settings(db, &by)
        .await?
        .into_iter()
        .map(|row| AlikeNodes { settings: row.settings.0, nodes: row.nodes.unsigned_abs(), names: row.names })
        .collect();
    let (differing, same) = compare_settings(&alike);
    let (waiting, unacknowledged_nodes) = wanted::unacknowledged(db, &by).await?;
    let unacknowledged = waiting.into_iter().map(|row| UnacknowledgedNode {
        node: row.name,
        since: row.settings_since.to_jiff(),
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
    });
    Ok(Json(SettingsComparison {
        nodes: alike.iter().map(|one| one.nodes).sum(),
        undecidable: undecidable as u64,
        differing,
        same,
        unacknowledged: unacknowledged.collect(),
        unacknowledged_nodes: unacknowledged_nodes.unsigned_abs(),
    }))
}
