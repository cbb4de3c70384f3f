//! What an agent is offered of sweeps, and what it tells of them on its way.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::here::Here;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::notice::SWEEPS;
use crate::store::{freeze, sweep as stored};
use crate::trust::NodeCaller;
use constans_core::sweep::Refused;
use constans_wire::check_in::Generation;
use constans_wire::run::Received;
use constans_wire::sweep::{SweepGoesOn, SweepOffer, SweepProgress};
use jiff::Timestamp;
use rocket::serde::json::Json;
use rocket::{State, post};
use serde_json::json;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;

/// This many characters of what is done, or of a refusal, are stored.
const LONGEST_TEXT: usize = 300;
/// A run is not expected to take longer.
const LONGEST_RUN_MS: u64 = 24 * 3_600 * 1_000;

/// Returns the sweeps that a node is to take part in.
pub(super) async fn offers(db: &PgPool, node: Uuid, now: Timestamp) -> Result<Vec<SweepOffer>, ApiError> {
    let rows = stored::offers(db, node).await?.into_iter();
    rows.map(|row| {
        let what = || format!("sweep S{}", row.no);
        let left = row.ends_at.to_jiff().duration_since(now).as_secs();
        Ok(SweepOffer {
            id: row.id,
            no: row.no,
            ends_in_secs: u64::try_from(left).unwrap_or(0),
            order: read_stored(what, row.body)?,
            generation: row.epoch.zip(row.counter).map(|(epoch, counter)| Generation { epoch, counter }),
            observed: row.observed.map(|observed| read_stored(what, observed)).transpose()?,
            who: row.who,
            because: row.because,
        })
    })
    .collect()
}

fn missing(id: &str) -> ApiError {
    ApiError::Missing { what: "sweep of this node", name: id.to_owned() }
}

/// How far the run of a node in a sweep is. The answer says whether it is to begin no further clause: the sweep was stopped, or nothing on
/// the node may be changed any more.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = SweepProgress, responses((status = 200, body = SweepGoesOn)))]
#[post("/sweeps/<id>/progress", data = "<told>")]
pub async fn progress(
    id: &str,
    told: NodeBody<SweepProgress>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<SweepGoesOn> {
    let told = told.sent_by(&shown, db).await?;
    let sweep = Uuid::parse_str(id).map_err(|_| missing(id))?;
    let told = SweepProgress {
        doing: told.doing.chars().take(LONGEST_TEXT).collect(),
        last_took_ms: told.last_took_ms.filter(|took| *took <= LONGEST_RUN_MS),
        ..told
    };
    let (is_stopped, enforces) = stored::progress(db.inner(), sweep, node.id, &json!(told), told.of > 0)
        .await?
        .ok_or_else(|| missing(id))?;
    let is_frozen = enforces && {
        let in_force = freeze::in_force(db.inner(), &[node.id]).await?;
        in_force.iter().any(|freeze| freeze.is_for(node.id) && freeze.clauses.is_empty())
    };
    here.waker.wake(SWEEPS);
    Ok(Json(SweepGoesOn { stop: is_stopped || is_frozen }))
}

/// Why a node does nothing of a sweep.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = Refused, responses((status = 200, body = Received)))]
#[post("/sweeps/<id>/refusal", data = "<refused>")]
pub async fn refusal(
    id: &str,
    refused: NodeBody<Refused>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Received> {
    let refused = bounded(refused.sent_by(&shown, db).await?);
    let sweep = Uuid::parse_str(id).map_err(|_| missing(id))?;
    if !stored::refuse(db.inner(), sweep, node.id, &json!(refused)).await? {
        return Err(missing(id));
    }
    here.waker.wake(SWEEPS);
    Ok(Json(Received::Stored))
}

fn bounded(refused: Refused) -> Refused {
    let cut = |text: String| text.chars().take(LONGEST_TEXT).collect();
    match refused {
        Refused::Frozen { no, until, because } => Refused::Frozen { no, until, because: cut(because) },
        Refused::NoSuchPart { message } => Refused::NoSuchPart { message: cut(message) },
        Refused::Failed { message } => Refused::Failed { message: cut(message) },
        other => other,
    }
}
