//! What an agent tells in an inspection.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::problem::{Answer, ApiError};
use crate::store::inspection as stored;
use crate::trust::NodeCaller;
use constans_wire::inspection::{InspectionOffer, InspectionReport};
use constans_wire::run::Received;
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;
use uuid::Uuid;

/// This many characters of what went wrong are stored.
const LONGEST_FAILURE: usize = 1_000;

/// Returns the inspections that a node is to do.
pub(super) async fn offers(db: &PgPool, node: Uuid) -> Result<Vec<InspectionOffer>, ApiError> {
    let rows = stored::offers(db, node).await?;
    Ok(rows.into_iter().map(|(no, kind, name)| InspectionOffer { no, kind, name }).collect())
}

/// What a node tells in an inspection. Only the first report counts.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = InspectionReport, responses((status = 200, body = Received)))]
#[post("/inspections/<no>", data = "<report>")]
pub async fn told(
    no: u32,
    report: NodeBody<InspectionReport>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
) -> Answer<Received> {
    let InspectionReport { things, left_out, failed } = report.sent_by(&shown, db).await?;
    let mut report = InspectionReport::of(things);
    report.left_out = report.left_out.saturating_add(left_out);
    report.failed = failed.map(|failed| failed.chars().take(LONGEST_FAILURE).collect());
    if !stored::report(db.inner(), i64::from(no), node.id, &report).await? {
        return Err(ApiError::Missing { what: "inspection of this node", name: format!("I{no}") });
    }
    Ok(Json(Received::Stored))
}
