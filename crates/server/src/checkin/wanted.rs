//! What an agent fetches and delivers: its own state, its contents, its reports.

use crate::problem::{Answer, ApiError};
use crate::store::wanted;
use crate::trust::NodeCaller;
use crate::work::report::take_in;
use constans_wire::report::RunReport;
use constans_wire::run::Received;
use rocket::State;
use rocket::serde::json::Json;
use serde_json::Value;
use sqlx::PgPool;

/// `GET /states/<digest>`: the node's own effective state. By digest, so what the node has need not be asked for.
#[rocket::get("/states/<digest>")]
pub async fn state(digest: &str, node: NodeCaller, db: &State<PgPool>) -> Answer<Value> {
    let missing = || ApiError::Missing { what: "state of this node", name: digest.to_owned() };
    Ok(Json(wanted::own_state(db.inner(), node.id, digest).await?.ok_or_else(missing)?))
}

/// `GET /contents/<name>`: contents that the node's own state names.
#[rocket::get("/contents/<name>")]
pub async fn content(name: &str, node: NodeCaller, db: &State<PgPool>) -> Result<Vec<u8>, ApiError> {
    let missing = || ApiError::Missing { what: "content of this node", name: name.to_owned() };
    wanted::own_content(db.inner(), node.id, name).await?.ok_or_else(missing)
}

/// `POST /runs`: the report of a run. Sent twice, it is stored once.
#[rocket::post("/runs", data = "<report>")]
pub async fn report(report: Json<RunReport>, node: NodeCaller, db: &State<PgPool>) -> Answer<Received> {
    let mut transaction = db.begin().await?;
    let received = take_in(&mut transaction, node.id, report.into_inner()).await?;
    transaction.commit().await?;
    Ok(Json(received))
}
