//! Check-ins.

use crate::launch::Here;
use crate::problem::{Answer, ApiError};
use crate::store::wanted::{self, WantedRow};
use crate::store::{fact, heard};
use crate::trust::NodeCaller;
use crate::work::resolve::resolve_nodes;
use constans_wire::check_in::{CheckIn, CheckInAnswer, Generation, WantedOffer};
use jiff::{SignedDuration, Timestamp};
use rocket::State;
use rocket::serde::json::Json;
use serde_json::json;
use sqlx::PgPool;
use std::sync::Arc;

/// The longest promise that is taken: a node that promises more would never be late.
const LONGEST_PROMISE_SECS: u64 = 7 * 86_400;

/// `POST /check-in`: a node is here, and says when it comes next.
#[rocket::post("/check-in", data = "<said>")]
pub async fn check_in(said: Json<CheckIn>, node: NodeCaller, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<CheckInAnswer> {
    let now = Timestamp::now();
    let next_secs = i64::try_from(said.next_in_secs.min(LONGEST_PROMISE_SECS)).unwrap_or(0);
    let promised = now + SignedDuration::from_secs(next_secs);
    let clock_off_ms = i64::try_from(said.now.duration_since(now).as_millis()).unwrap_or(i64::MAX);
    let about = serde_json::to_value(&said.about).map_err(|error| ApiError::Wrong(error.to_string()))?;
    let mut transaction = db.begin().await?;
    heard::note(&mut transaction, node.id, now, promised, clock_off_ms).await?;
    fact::now_is(&mut transaction, node.id, "agent", &json!(said.agent)).await?;
    if fact::now_is(&mut transaction, node.id, "about", &about).await? {
        // What the node is may decide what it should be.
        resolve_nodes(&mut transaction, here, Some(node.id)).await?;
    }
    let wanted = wanted::of(&mut *transaction, node.id).await?;
    transaction.commit().await?;
    Ok(Json(CheckInAnswer { name: node.name, now, wanted: wanted.and_then(offer) }))
}

/// A node that never had a usable state is offered none.
fn offer(row: WantedRow) -> Option<WantedOffer> {
    let settings = serde_json::from_value(row.settings).ok()?;
    Some(WantedOffer { digest: row.state?, generation: Generation { epoch: row.epoch, counter: row.counter }, settings })
}
