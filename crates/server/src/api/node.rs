//! Nodes.

use crate::problem::{Answer, ApiError};
use crate::store::audit;
use crate::store::node::{self, NodeRow};
use crate::trust::{Allowed, NodeRead, NodeRevoke};
use constans_core::standing::{self, Promise, USUAL_CUT_OFF};
use constans_wire::check_in::{Hearing, NodeSummary};
use jiff::{SignedDuration, Timestamp};
use rocket::State;
use rocket::serde::json::Json;
use serde_json::json;
use sqlx::PgPool;

/// `GET /api/nodes?<after>`: the nodes by name, 1,000 at a time.
#[rocket::get("/api/nodes?<after>")]
pub async fn list(after: Option<&str>, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<NodeSummary>> {
    let rows = node::all(db.inner(), after.unwrap_or_default()).await?;
    let now = Timestamp::now();
    Ok(Json(rows.into_iter().map(|row| summary(row, now)).collect()))
}

/// `POST /api/nodes/<name>/revoke`: the node is refused from its next request on.
#[rocket::post("/api/nodes/<name>/revoke")]
pub async fn revoke(name: &str, caller: Allowed<NodeRevoke>, db: &State<PgPool>) -> Answer<String> {
    let mut transaction = db.begin().await?;
    let id = node::by_name(&mut *transaction, name).await?.ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    if !node::revoke(&mut *transaction, id).await? {
        return Err(ApiError::Conflict { message: format!("{name} was revoked already"), hint: "constans node list shows since when".to_owned() });
    }
    audit::add(&mut *transaction, &caller.person, "revoked", name, &json!({ "node": id })).await?;
    transaction.commit().await?;
    Ok(Json(name.to_owned()))
}

fn summary(row: NodeRow, now: Timestamp) -> NodeSummary {
    let (last_heard, promised) = (row.last_at.map(|at| at.to_jiff()), row.promised_at.map(|at| at.to_jiff()));
    let promise = last_heard.zip(promised).map(|(heard_at, next_at)| Promise { heard_at, next_at });
    let hearing = match standing::hearing(promise, USUAL_CUT_OFF, SignedDuration::ZERO, now) {
        standing::Hearing::OnTime => Hearing::OnTime,
        standing::Hearing::Late => Hearing::Late,
        standing::Hearing::Silent => Hearing::Silent,
        standing::Hearing::NeverReported => Hearing::NeverReported,
    };
    NodeSummary {
        id: row.id,
        name: row.name,
        labels: row.labels.and_then(|labels| serde_json::from_value(labels).ok()).unwrap_or_default(),
        about: row.about.and_then(|about| serde_json::from_value(about).ok()).unwrap_or_default(),
        last_heard,
        promised,
        clock_off_secs: row.clock_off_ms.map(|off| off / 1_000),
        hearing,
        revoked_at: row.revoked_at.map(|at| at.to_jiff()),
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
    }
}
