//! What a node is offered of drills, and what it tells of them.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::drill as stored;
use crate::trust::NodeCaller;
use constans_wire::drill::{DrillOffer, DrillReport, MAX_CLAUSES};
use constans_wire::run::Received;
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;
use uuid::Uuid;

/// This many characters of a text are stored.
const LONGEST_TEXT: usize = 500;

/// Returns the drill that a node is to do.
pub(super) async fn offer(db: &PgPool, node: Uuid) -> Result<Option<DrillOffer>, ApiError> {
    stored::offer(db, node).await?.map(read_offer).transpose()
}

/// Reads a drill as it was asked for.
///
/// # Errors
///
/// Returns that it cannot be read.
pub fn read_offer(row: stored::OfferRow) -> Result<DrillOffer, ApiError> {
    let clauses = row
        .clauses
        .into_iter()
        .map(|address| read_stored(|| format!("clause of the drill D{}", row.no), address.into()));
    Ok(DrillOffer {
        no: row.no,
        clauses: clauses.collect::<Result<_, _>>()?,
        for_secs: row.for_secs.unsigned_abs(),
        now: row.at_once,
        who: row.who,
        because: row.because,
    })
}

/// How a drill goes on, from its beginning to the moment at which nothing is broken any more.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = DrillReport, responses((status = 200, body = Received)))]
#[post("/drills/<no>", data = "<report>")]
pub async fn told(
    no: u32,
    report: NodeBody<DrillReport>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
) -> Answer<Received> {
    let mut report = report.sent_by(&shown, db).await?;
    report.clauses.truncate(MAX_CLAUSES);
    let texts = report.clauses.iter_mut().flat_map(|clause| [&mut clause.words, &mut clause.failed]);
    for text in texts.chain([&mut report.refused]).flatten() {
        *text = text.chars().take(LONGEST_TEXT).collect();
    }
    if !stored::report(db.inner(), i64::from(no), node.id, &report).await? {
        return Err(ApiError::Missing { what: "drill of this node", name: format!("D{no}") });
    }
    Ok(Json(Received::Stored))
}
