//! What an agent fetches for a self-test, and its report.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::self_test as stored;
use crate::thread::on_thread;
use crate::trust::NodeCaller;
use constans_core::self_test::{IN_LINE, OUT_OF_LINE, self_test_state};
use constans_core::state::Resolved;
use constans_wire::run::Received;
use constans_wire::self_test::{SelfTestOffer, SelfTestReport};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::{Value, json};
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;

/// This many characters of what went wrong are stored.
const LONGEST_FAILURE: usize = 1_000;

/// Returns the self-test that a node is to do.
pub(super) async fn offer(db: &PgPool, node: Uuid) -> Result<Option<SelfTestOffer>, ApiError> {
    let Some((no, state)) = stored::offer(db, node).await? else { return Ok(None) };
    let digest =
        state.parse().map_err(|_| ApiError::stored("self-test", &format!("{state} is no digest")))?;
    Ok(Some(SelfTestOffer { no, digest }))
}

/// Makes the state of a self-test.
///
/// # Errors
///
/// Returns that it could not be made: a fault of the server.
pub async fn made(nonce: String, here: &Arc<Here>) -> Result<Resolved, ApiError> {
    let here = here.clone();
    on_thread(move || self_test_state(&nonce, &here.key))
        .await?
        .map_err(|findings| ApiError::failed("making the state of a self-test", &findings[0].message))
}

async fn of_node(db: &PgPool, here: &Arc<Here>, no: u32, node: Uuid) -> Result<Resolved, ApiError> {
    let nonce = stored::nonce(db, i64::from(no), node).await?;
    let nonce = nonce.ok_or_else(|| missing(no))?;
    made(nonce, here).await
}

fn missing(no: u32) -> ApiError {
    ApiError::Missing { what: "self-test of this node", name: format!("T{no}") }
}

/// The state of a self-test that the node is to do.
#[utoipa::path(tag = "agents", security(("node" = [])), responses((status = 200, body = Object)))]
#[get("/self-tests/<no>/state")]
pub async fn test_state(
    no: u32,
    node: NodeCaller,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Value> {
    Ok(Json(json!(of_node(db, here, no, node.id).await?.state)))
}

/// The content that the state of a self-test names.
#[utoipa::path(tag = "agents", security(("node" = [])), responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")))]
#[get("/self-tests/<no>/contents/<name>")]
pub async fn test_content(
    no: u32,
    name: &str,
    node: NodeCaller,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Result<Vec<u8>, ApiError> {
    let resolved = of_node(db, here, no, node.id).await?;
    let content = resolved.contents.iter().find(|(digest, _)| digest.as_str() == name);
    let content = content
        .ok_or_else(|| ApiError::Missing { what: "content of this self-test", name: name.to_owned() })?;
    stored::note_fetched(db.inner(), i64::from(no), node.id).await?;
    Ok(content.1.to_vec())
}

/// The report of a self-test. Only the first one counts.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = SelfTestReport, responses((status = 200, body = Received)))]
#[post("/self-tests/<no>", data = "<report>")]
pub async fn test_report(
    no: u32,
    report: NodeBody<SelfTestReport>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Received> {
    let report = report.sent_by(&shown, db).await?;
    // Nothing else is asked for.
    let mut seen = report.seen;
    seen.retain(|address, _| [IN_LINE, OUT_OF_LINE].contains(&address.as_str()));
    let failed = report.failed.map(|failed| failed.chars().take(LONGEST_FAILURE).collect());
    let report = SelfTestReport { seen, failed, ..report };
    if !stored::report(db.inner(), i64::from(no), node.id, &report).await? {
        return Err(missing(no));
    }
    here.waker.wake("nodes");
    Ok(Json(Received::Stored))
}
