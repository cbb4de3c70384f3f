//! What an agent fetches and delivers: its own state, its contents, its reports.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::here::Here;
use crate::intake::batch::Batcher;
use crate::intake::report::{StoredReport, plain, take_in};
use crate::metrics::{Intake, IntakePath, Queue};
use crate::problem::{Answer, ApiError};
use crate::store::effective_state;
use crate::store::notice::SWEEPS;
use crate::store::run::PlainRun;
use crate::trust::NodeCaller;
use constans_wire::report::RunReport;
use constans_wire::run::Received;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::Value;
use sqlx::PgPool;
use std::sync::Arc;

/// The node's own effective state. By digest, so what the node has need not be asked for.
#[utoipa::path(tag = "agents", security(("node" = [])), responses((status = 200, body = Object)))]
#[get("/states/<digest>")]
pub async fn state(digest: &str, node: NodeCaller, db: &State<PgPool>) -> Answer<Value> {
    let missing = || ApiError::Missing { what: "state of this node", name: digest.to_owned() };
    Ok(Json(effective_state::own(db.inner(), node.id, digest).await?.ok_or_else(missing)?))
}

/// Contents that the node's own state names.
#[utoipa::path(tag = "agents", security(("node" = [])), responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")))]
#[get("/contents/<name>")]
pub async fn content(name: &str, node: NodeCaller, db: &State<PgPool>) -> Result<Vec<u8>, ApiError> {
    let missing = || ApiError::Missing { what: "content of this node", name: name.to_owned() };
    effective_state::own_content(db.inner(), node.id, name).await?.ok_or_else(missing)
}

/// The report of a run. Sent twice, it is stored once.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = RunReport, responses((status = 200, body = Received)))]
#[post("/runs", data = "<report>")]
pub async fn report(
    report: NodeBody<RunReport>,
    shown: ShownCertificate,
    db: &State<PgPool>,
    together: &State<Batcher<PlainRun>>,
    here: &State<Arc<Here>>,
) -> Answer<Received> {
    here.metrics.waiting.get_or_create(&Queue { queue: "reports" }).set(together.waiting() as i64);
    let (report, sent) = report.sent_whole_by(&shown, db).await?;
    if let Some(plain) = plain(&report, shown.node, shown.spki.clone())
        && together.take(plain).await.is_some()
    {
        here.metrics.reports.get_or_create(&Intake { path: IntakePath::Batched }).inc();
        here.run_counts.count(&report.counts);
        return Ok(Json(Received::Stored));
    }
    let node = shown.caller(db).await?;
    let (counts, is_swept) = (report.counts, report.sweep.is_some());
    let mut transaction = db.begin().await?;
    let StoredReport { received, is_news } = take_in(&mut transaction, node.id, report, &sent).await?;
    transaction.commit().await?;
    if received == Received::Stored {
        here.run_counts.count(&counts);
    }
    if is_news {
        here.waker.wake("nodes");
    }
    if is_swept {
        here.waker.wake(SWEEPS);
    }
    here.metrics.reports.get_or_create(&Intake { path: IntakePath::Single }).inc();
    Ok(Json(received))
}
