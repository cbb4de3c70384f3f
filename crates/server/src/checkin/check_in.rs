//! Check-ins.

use crate::launch::Here;
use crate::problem::{Answer, ApiError};
use crate::store::wanted::{self, WantedRow};
use crate::store::{fact, heard, mark, notice, recovery};
use crate::trust::NodeCaller;
use crate::work::resolve::resolve_nodes;
use constans_core::run::RestartPending;
use constans_wire::check_in::{CheckIn, CheckInAnswer, Generation, WantedOffer};
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use uuid::Uuid;

/// The longest promise that is taken: a node that promises more would never be late.
const LONGEST_PROMISE_SECS: u64 = 7 * 86_400;

/// So many causes of a pending restart are kept, and so many characters of each.
const MOST_CAUSES: usize = 50;
const MOST_CAUSE_TEXT: usize = 200;

/// A node is here, and says when it comes next.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = CheckIn, responses((status = 200, body = CheckInAnswer)))]
#[post("/check-in", data = "<said>")]
pub async fn check_in(said: Json<CheckIn>, node: NodeCaller, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<CheckInAnswer> {
    let now = Timestamp::now();
    let next_secs = i64::try_from(said.next_in_secs.min(LONGEST_PROMISE_SECS)).unwrap_or(0);
    let promised = now + SignedDuration::from_secs(next_secs);
    let clock_off_ms = i64::try_from(said.now.duration_since(now).as_millis()).unwrap_or(i64::MAX);
    let about = serde_json::to_value(said.about.only_stable()).map_err(|error| ApiError::Wrong(error.to_string()))?;
    let mut transaction = db.begin().await?;
    if heard::note(&mut transaction, node.id, now, promised, clock_off_ms).await? {
        // It was away or new; who keeps its promises changes no page.
        notice::tell(&mut *transaction, "nodes").await?;
    }
    let (agent, restart_pending) = (json!(said.agent), json!(said.restart_pending.as_ref().map(bounded)));
    if !fact::are_so(&mut *transaction, node.id, &[("agent", &agent), ("about", &about), ("restart_pending", &restart_pending)]).await? {
        fact::now_is(&mut transaction, node.id, "agent", &agent).await?;
        fact::now_is(&mut transaction, node.id, "restart_pending", &restart_pending).await?;
        if fact::now_is(&mut transaction, node.id, "about", &about).await? {
            // What the node is may decide what it should be.
            resolve_nodes(&mut transaction, here, Some(node.id)).await?;
        }
    }
    let mark = next_mark(&mut transaction, node.id, &said).await?;
    let wanted = wanted::of(&mut *transaction, node.id).await?;
    transaction.commit().await?;
    let recovering = wanted.as_ref().is_some_and(|row| row.recovering);
    let offered = wanted.and_then(offer);
    if let Some(offered) = &offered {
        note_handed_out(db, here, offered.generation).await?;
    }
    Ok(Json(CheckInAnswer { name: node.name, now, mark, wanted: offered, recovering }))
}

/// Returns what a node says of a pending restart, as much of it as people read.
fn bounded(pending: &RestartPending) -> RestartPending {
    let because = pending.because.iter().take(MOST_CAUSES).map(|cause| cause.chars().take(MOST_CAUSE_TEXT).collect());
    RestartPending { since: pending.since, because: because.collect() }
}

/// Notes durably that a generation is handed out. What was made together with it is noted with it: after a change for all
/// nodes that is one writing, not one a node.
async fn note_handed_out(db: &PgPool, here: &Arc<Here>, generation: Generation) -> Result<(), ApiError> {
    if generation <= here.handed_out.newest() {
        return Ok(());
    }
    let newest = Generation { epoch: generation.epoch, counter: recovery::newest_counter(db).await? };
    let here = here.clone();
    let noted = tokio::task::spawn_blocking(move || here.handed_out.note(newest.max(generation))).await;
    noted.map_err(|error| ApiError::Wrong(format!("noting broke off: {error}")))?.map_err(ApiError::Protected)
}

/// Gives the mark for the next check-in. Who shows neither the last one nor the one that was shown for it is another machine,
/// or an old image.
async fn next_mark(db: &mut PgConnection, node: Uuid, said: &CheckIn) -> sqlx::Result<Uuid> {
    let (known, shown) = (mark::of(&mut *db, node).await?, said.mark);
    let is_double = known.is_some_and(|known| {
        known.is_double || (shown != Some(known.current) && (known.before.is_some() || shown.is_some()) && shown != known.before)
    });
    let next = Uuid::now_v7();
    mark::give(db, node, next, shown, is_double, said.has.as_ref()).await?;
    Ok(next)
}

/// A node that never had a usable state is offered none, and while the server recovers nobody is.
fn offer(row: WantedRow) -> Option<WantedOffer> {
    if row.recovering {
        return None;
    }
    let settings = serde_json::from_value(row.settings).ok()?;
    Some(WantedOffer { digest: row.state?, generation: Generation { epoch: row.epoch, counter: row.counter }, settings })
}
