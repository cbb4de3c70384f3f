//! Handing out: under the exclusive lock, what is left is caught up with, the documents are stored, and the nodes are given what
//! was prepared for them.

use super::RESOLVER;
use super::documents::store_edits;
use super::prepare::{Ended, Prepared, Work, impact, prepare_rest};
use super::stop_at::stop_at;
use crate::problem::{ApiError, read_stored};
use crate::store::{audit, change, fleet, job, notice, recovery};
use crate::trust::Refusal;
use constans_core::change::{Confirmed, Impact, must_be_confirmed};
use constans_wire::kit::Changed;
use serde_json::json;
use sqlx::{Connection as _, PgConnection};
use std::time::Instant;

/// What became of a hand-out.
pub enum HandOut {
    /// It is done.
    Done,
    /// It waits for a person.
    Unconfirmed,
    /// Somebody holds the lock: to be tried again.
    Busy,
    /// Something else was handed out since, so that it has to be prepared anew.
    Outdated,
}

/// Hands a prepared change out, whole or not at all.
///
/// # Errors
///
/// Returns why that ended early.
pub async fn hand_out(db: &mut PgConnection, work: &Work<'_>, prepared: &mut Prepared) -> Result<HandOut, Ended> {
    let no = work.change.no;
    let mut transaction = db.begin().await?;
    if let Err(error) = fleet::lock(&mut transaction).await {
        return match error.into() {
            ApiError::Busy(_) => Ok(HandOut::Busy),
            other => Err(other.into()),
        };
    }
    let locked = Instant::now();
    stop_at("locked");
    let now = fleet::read(&mut *transaction).await?;
    if now.rev != prepared.base.rev
        || now.epoch != prepared.base.epoch
        || now.resolver > RESOLVER
        || recovery::since(&mut *transaction).await?.is_some()
    {
        return Ok(HandOut::Outdated);
    }
    if prepare_rest(&mut transaction, work, prepared).await? {
        prepared.impact = impact(&mut transaction, no).await?;
    }
    if !job::end(&mut *transaction, &work.job).await? {
        return Err(Ended::Lost);
    }
    if let Some(refused) = refusal(work, &prepared.impact) {
        return Err(refused);
    }
    if must_wait(&mut transaction, work, &prepared.impact).await? {
        change::set_impact(&mut *transaction, no, &json!(prepared.impact)).await?;
        change::set_status(&mut *transaction, no, "unconfirmed", None).await?;
        transaction.commit().await?;
        return Ok(HandOut::Unconfirmed);
    }
    let before = recovery::newest_counter(&mut *transaction).await?;
    store_edits(&mut transaction, &work.edits, &work.change.who, no).await?;
    for retired in work.edits.iter().filter(|edit| edit.after.is_none()) {
        if let Some(node) = retired.key.node().and_then(|id| id.parse().ok()) {
            // Also a database that was restored from before refuses it.
            let refusal = Refusal { at: crate::clock::now(), node, refused: true, keys: Vec::new() };
            work.here.refusals.add(&refusal).map_err(ApiError::Protected)?;
        }
    }
    stop_at("documents_stored");
    fleet::raise(&mut *transaction, RESOLVER).await?;
    change::hand_out(&mut transaction, no, now.epoch).await?;
    change::set_handed_out(&mut *transaction, no, before, &json!(prepared.impact)).await?;
    let detail = json!({ "change": no, "because": work.change.because, "nodes": prepared.impact.nodes, "edits": work.change.edits });
    audit::add(&mut *transaction, &work.change.who, "handed out a change", &work.change.what, &detail).await?;
    for what in ["groups", "kits", "nodes"] {
        notice::tell(&mut *transaction, what).await?;
    }
    stop_at("handing_out");
    transaction.commit().await?;
    work.here.metrics.handing_out.observe(locked.elapsed().as_secs_f64());
    tracing::info!(change = no, nodes = prepared.impact.nodes, locked_ms = locked.elapsed().as_millis() as u64, "handed out a change");
    stop_at("handed_out");
    Ok(HandOut::Done)
}

/// Returns why a change is refused, if the state of nodes cannot be resolved after it and nobody agreed to that.
pub fn refusal(work: &Work<'_>, impact: &Impact) -> Option<Ended> {
    if impact.unusable.is_empty() || work.change.although_unusable {
        return None;
    }
    let nodes = impact.unusable.len();
    let changed = Changed { unusable: impact.unusable.clone(), ..Changed::default() };
    let of = if nodes == 1 { "a node".to_owned() } else { format!("{nodes} nodes") };
    Some(Ended::Refused(
        format!("after this change the desired state of {of} cannot be resolved: {}", changed.reasons().join("; ")),
        "fix it first; with --although-unusable these nodes keep their last usable state".to_owned(),
    ))
}

async fn must_wait(db: &mut PgConnection, work: &Work<'_>, impact: &Impact) -> Result<bool, ApiError> {
    let joined = change::affected(db, work.change.no).await?.joined.unsigned_abs();
    let confirmed = work.change.confirmed.clone().map(|stored| read_stored(|| format!("confirmation of C{}", work.change.no), stored));
    let confirmed: Option<Confirmed> = confirmed.transpose()?;
    Ok(work.change.kind != "resolver" && must_be_confirmed(impact, confirmed.as_ref(), joined))
}
