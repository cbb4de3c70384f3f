//! Retired nodes: searched, and brought back.

use crate::body::JsonBody;
use crate::change::single::{Occasion, resolve_single};
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::node::RetiredRow;
use crate::store::{audit, fleet, node, node_attribute};
use crate::trust::{Allowed, JoinDecide, NodeRead, Refusal};
use constans_core::digest::hex;
use constans_core::filter::RETIRED_NODES;
use constans_core::words::check_node_name;
use constans_wire::retired::{BringBack, RetiredNode};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::slice;
use std::sync::Arc;
use uuid::Uuid;

/// The longest pattern of names.
const LONGEST_PATTERN: usize = 253;

/// The retired nodes, those retired last first.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("name" = Option<String>, Query, description = "Only those of this name, or whose names fit it as a pattern: `kiosk-lab-*`"),
    ListQuery,
), responses((status = 200, body = Vec<RetiredNode>)))]
#[get("/api/retired-nodes?<name>&<list..>")]
pub async fn list(
    name: Option<&str>,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<RetiredNode> {
    let name = name.filter(|name| !name.is_empty()).unwrap_or("*");
    if name.len() > LONGEST_PATTERN {
        return Err(ApiError::invalid("name", format!("a pattern has at most {LONGEST_PATTERN} characters")));
    }
    let like = &super::admission::like(name);
    let read = |range| async move {
        placed(node::retired(db.inner(), like, &range).await?, RetiredRow::cursor, shown)
    };
    list.page(&RETIRED_NODES, read).await
}

fn shown(row: RetiredRow) -> Result<RetiredNode, ApiError> {
    Ok(RetiredNode {
        id: row.id,
        labels: read_stored(|| format!("labels of {}", row.name), row.labels)?,
        fingerprint: row.spki_digest.as_deref().map(hex),
        joined_at: row.joined_at.to_jiff(),
        retired_at: row.retired_at.to_jiff(),
        retired_by: row.who,
        because: row.because,
        change: row.change,
        is_name_in_use: row.is_name_in_use,
        name: row.name,
    })
}

/// A retired node is of the fleet again, with its identity, its labels and its history; its keys are admitted as before, unless it was
/// revoked. Groups that named it do not name it again. Returns its name.
#[utoipa::path(tag = "nodes", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = BringBack, responses((status = 200, body = String)))]
#[post("/api/retired-nodes/<id>/bring-back", data = "<how>")]
pub async fn bring_back(
    id: Uuid,
    how: JsonBody<BringBack>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<String> {
    let missing = || ApiError::Missing { what: "retired node", name: id.to_string() };
    let mut transaction = db.begin().await?;
    fleet::share(&mut *transaction).await?;
    let had = node::name_of_retired(&mut *transaction, id).await?.ok_or_else(missing)?;
    let name = how.0.name.unwrap_or(had);
    check_node_name(&name).map_err(|because| ApiError::invalid("name", because))?;
    if !node::names_in_use(&mut *transaction, slice::from_ref(&name)).await?.is_empty() {
        return Err(ApiError::Conflict {
            message: format!("another node is called {name} now"),
            hint: "bring it back under another name (--name)".to_owned(),
        });
    }
    let is_revoked = node::bring_back(&mut transaction, id, &name).await?.ok_or_else(missing)?;
    node_attribute::set(&mut transaction, id, "name", &json!(name)).await?;
    if !is_revoked {
        let let_back = Refusal { at: crate::clock::now(), node: id, refused: false, keys: Vec::new() };
        here.refusals.add(&let_back).map_err(ApiError::Protected)?;
    }
    let occasion = Occasion { kind: "join", what: &format!("{name} is brought back"), who: &caller.person };
    resolve_single(&mut transaction, here, id, &occasion).await?;
    audit::add(&mut *transaction, &caller.person, "brought back", &name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(name))
}
