//! Joining requests: seen, approved, denied.

use crate::body::JsonBody;
use crate::change::single::{Occasion, resolve_single};
use crate::here::Here;
use crate::page::{Page, PageAnswer, PageQuery};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::joining::{self, RequestRow};
use crate::store::{audit, check_in, fleet, node, node_attribute};
use crate::trust::{Allowed, JoinDecide, NodeRead, ReadRequest, Refusal};
use constans_core::digest::hex;
use constans_core::words::check_reason;
use constans_wire::join::{Approve, Deny, JoiningRequest};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use uuid::Uuid;

/// The waiting requests, the oldest first.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(PageQuery), responses((status = 200, body = Vec<JoiningRequest>)))]
#[get("/api/joining-requests?<page..>")]
pub async fn waiting(
    page: PageQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<JoiningRequest> {
    let range = page.range()?;
    let rows = joining::waiting(db.inner(), &range).await?;
    let names: Vec<String> = rows.iter().map(|row| row.name.clone()).collect();
    let in_use = node::names_in_use(db.inner(), &names).await?;
    Page::of_rows(rows, &range, RequestRow::cursor).shown(|row| shown(row, &in_use))
}

fn shown(row: RequestRow, in_use: &[String]) -> Result<JoiningRequest, ApiError> {
    let labels =
        row.labels.map(|labels| read_stored(|| format!("labels of the request of {}", row.name), labels));
    Ok(JoiningRequest {
        id: row.id,
        fingerprint: hex(&row.spki_digest),
        address: row.address,
        about: read_stored(|| format!("report of {} about itself", row.name), row.about)?,
        labels: labels.transpose()?.unwrap_or_default(),
        invited_by: row.made_by,
        requested_at: row.requested_at.to_jiff(),
        name_in_use: row.known_node.is_none() && in_use.contains(&row.name),
        known_as: row.known_node.map(|_| row.name.clone()),
        revoked_since: row.revoked_at.map(|at| at.to_jiff()),
        name: row.name,
    })
}

/// The request becomes a node, or a known node on a new machine.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = Approve, responses((status = 200, body = String)))]
#[post("/api/joining-requests/<id>/approve", data = "<how>")]
pub async fn approve(
    id: Uuid,
    how: JsonBody<Approve>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<String> {
    let mut transaction = db.begin().await?;
    fleet::share(&mut *transaction).await?;
    let request = undecided(&mut transaction, id).await?;
    if let Some(node) = request.known_node {
        let name = approve_again(&mut transaction, node, &request, &how, &caller.person, here).await?;
        transaction.commit().await?;
        here.waker.wake("joining");
        return Ok(Json(name));
    }
    let (node_id, name) = match &how.as_node {
        Some(known) => {
            let missing = || ApiError::Missing { what: "node", name: known.clone() };
            let node_id = node::locked_by_name(&mut *transaction, known).await?.ok_or_else(missing)?;
            let_back(&mut transaction, node_id, &request.spki_digest, here).await?;
            (node_id, known.clone())
        }
        None => (new_node(&mut transaction, &request).await?, request.name.clone()),
    };
    let issued = here.authority.issue_node(node_id, ReadRequest::read(&request.request)?)?;
    node::add_key(&mut *transaction, node_id, &request.spki_digest, &issued.certificate, issued.ends_at)
        .await?;
    joining::approve(&mut *transaction, id, node_id, &caller.person).await?;
    let occasion = Occasion { kind: "join", what: &format!("{name} joins"), who: &caller.person };
    resolve_single(&mut transaction, here, node_id, &occasion).await?;
    let detail = json!({ "request": id, "node": node_id, "as_known": how.as_node.is_some(), "fingerprint": hex(&request.spki_digest) });
    audit::add(&mut *transaction, &caller.person, "approved", &name, &detail).await?;
    transaction.commit().await?;
    here.waker.wake("joining");
    Ok(Json(name))
}

/// Lets a node that was revoked, or that is on a new machine, be admitted again, by this key alone.
async fn let_back(db: &mut PgConnection, node: Uuid, spki: &[u8], here: &Here) -> Result<(), ApiError> {
    let keys = node::let_back(&mut *db, node, spki).await?.iter().map(|key| hex(key)).collect();
    here.refusals
        .add(&Refusal { at: crate::clock::now(), node, refused: false, keys })
        .map_err(ApiError::Protected)?;
    Ok(check_in::forget(db, node).await?)
}

/// Gives a known node a new certificate for the key that it has; one that was revoked is admitted again.
async fn approve_again(
    db: &mut PgConnection,
    node: Uuid,
    request: &RequestRow,
    how: &Approve,
    by: &str,
    here: &Here,
) -> Result<String, ApiError> {
    if how.as_node.as_ref().is_some_and(|other| *other != request.name) {
        return Err(ApiError::Conflict {
            message: format!("this is {} with its existing key", request.name),
            hint: "approve it without --as".to_owned(),
        });
    }
    if request.revoked_at.is_some() {
        let_back(db, node, &request.spki_digest, here).await?;
        let occasion =
            Occasion { kind: "join", what: &format!("{} is admitted again", request.name), who: by };
        resolve_single(db, here, node, &occasion).await?;
    }
    let issued = here.authority.issue_node(node, ReadRequest::read(&request.request)?)?;
    if !node::renew(&mut *db, node, &request.spki_digest, &issued.certificate, issued.ends_at).await? {
        return Err(ApiError::Revoked(request.name.clone()));
    }
    joining::approve(&mut *db, request.id, node, by).await?;
    let detail = json!({ "request": request.id, "node": node, "until": issued.ends_at, "was_revoked": request.revoked_at.is_some(), "fingerprint": hex(&request.spki_digest) });
    audit::add(db, by, "approved again", &request.name, &detail).await?;
    Ok(request.name.clone())
}

async fn new_node(db: &mut PgConnection, request: &RequestRow) -> Result<Uuid, ApiError> {
    if node::locked_by_name(&mut *db, &request.name).await?.is_some() {
        return Err(ApiError::Conflict {
            message: format!("the name {} is in use", request.name),
            hint: format!(
                "if this is that node on a new machine: --as {}; otherwise deny it and let it join under another name",
                request.name
            ),
        });
    }
    let id = Uuid::now_v7();
    node::add(&mut *db, id, &request.name).await?;
    for (what, value) in [
        ("name", json!(request.name)),
        ("labels", request.labels.clone().unwrap_or_else(|| json!({}))),
        ("about", request.about.clone()),
    ] {
        node_attribute::set(&mut *db, id, what, &value).await?;
    }
    Ok(id)
}

/// The request is refused.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = Deny, responses((status = 200, body = String)))]
#[post("/api/joining-requests/<id>/deny", data = "<why>")]
pub async fn deny(
    id: Uuid,
    why: JsonBody<Deny>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<String> {
    check_reason(&why.because).map_err(|because| ApiError::invalid("because", because))?;
    let mut transaction = db.begin().await?;
    let request = undecided(&mut transaction, id).await?;
    joining::deny(&mut *transaction, id, &why.because, &caller.person).await?;
    audit::add(
        &mut *transaction,
        &caller.person,
        "denied",
        &request.name,
        &json!({ "request": id, "because": why.because }),
    )
    .await?;
    transaction.commit().await?;
    here.waker.wake("joining");
    Ok(Json(request.name))
}

async fn undecided(db: &mut PgConnection, id: Uuid) -> Result<RequestRow, ApiError> {
    let request = joining::by_id(db, id)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "joining request", name: id.to_string() })?;
    match &request.decision {
        None => Ok(request),
        Some(decision) => {
            let message = format!("the request of {} was {decision} already", request.name);
            Err(ApiError::Conflict {
                message,
                hint: "constans join list shows the waiting requests".to_owned(),
            })
        }
    }
}
