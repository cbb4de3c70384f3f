//! Handing out: under the exclusive lock, what is left is caught up with, the documents are stored, and the nodes are given what
//! was prepared for them.

use super::RESOLVER;
use super::documents::{read_documents, store_edits};
use super::prepare::{Ended, Prepared, Work, count_impact, prepare_rest};
use super::stop_at::stop_at;
use super::waves;
use crate::problem::{ApiError, read_stored};
use crate::store::{audit, change, fleet, job, recovery, rollout};
use crate::trust::Refusal;
use constans_core::change::{Confirmed, Impact, asks_for_second_person, must_be_confirmed};
use constans_wire::kit::Changed;
use serde_json::json;
use sqlx::{Connection as _, PgConnection};
use std::time::Instant;

/// The result of a hand-out.
pub enum HandOut {
    /// It is done.
    Done,
    /// It waits for a person: for confirmation, or for approval.
    Waiting,
    /// Someone holds the lock: to be tried again.
    Busy,
    /// Something else was handed out since, so that it has to be prepared again.
    Outdated,
}

/// Hands a prepared change out, whole or not at all.
///
/// # Errors
///
/// Returns why that ended early.
pub async fn hand_out(
    db: &mut PgConnection,
    work: &Work<'_>,
    prepared: &mut Prepared,
) -> Result<HandOut, Ended> {
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
        count_impact(&mut transaction, no, prepared).await?;
    }
    if !job::end(&mut *transaction, &work.job).await? {
        return Err(Ended::Lost);
    }
    if let Some(refused) = refusal(work, &prepared.impact) {
        return Err(refused);
    }
    if let Some(status) = must_wait(&mut transaction, work, prepared).await? {
        change::set_impact(&mut *transaction, no, &json!(prepared.impact)).await?;
        change::set_status(&mut *transaction, no, status, None).await?;
        transaction.commit().await?;
        return Ok(HandOut::Waiting);
    }
    if waves::begin(&mut transaction, work, prepared).await? {
        // Others that were prepared meanwhile look again whether it has their documents.
        fleet::raise(&mut *transaction, RESOLVER).await?;
        stop_at("rollout_begun");
        transaction.commit().await?;
        work.here.nudge.nudge();
        return Ok(HandOut::Done);
    }
    let before = recovery::newest_counter(&mut *transaction).await?;
    let by_change = work.change.of_rollout.unwrap_or(no);
    store_edits(&mut transaction, &work.edits, &work.change.who, by_change).await?;
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
    if let Some(part) = &work.part {
        part.done(&mut transaction, work).await?;
    }
    if let Some(gone_back) = work.change.goes_back {
        rollout::end(&mut *transaction, gone_back, "turned_back", &work.change.who).await?;
    }
    let detail = json!({ "change": no, "because": work.change.because, "approved_by": work.change.approved_by, "nodes": prepared.impact.nodes, "edits": work.change.edits });
    audit::add(&mut *transaction, &work.change.who, "handed out a change", &work.change.what, &detail)
        .await?;
    stop_at("handing_out");
    transaction.commit().await?;
    ["kits", "nodes"].into_iter().for_each(|topic| work.here.waker.wake(topic));
    work.here.metrics.handing_out.observe(locked.elapsed().as_secs_f64());
    tracing::info!(
        change = no,
        nodes = prepared.impact.nodes,
        locked_ms = locked.elapsed().as_millis() as u64,
        "handed out a change"
    );
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
        format!(
            "after this change the desired state of {of} cannot be resolved: {}",
            changed.reasons().join("; ")
        ),
        "fix it first; with --although-unusable these nodes keep their last usable state".to_owned(),
    ))
}

/// Returns as what a change waits for a person, if it does.
async fn must_wait(
    db: &mut PgConnection,
    work: &Work<'_>,
    prepared: &Prepared,
) -> Result<Option<&'static str>, ApiError> {
    if work.change.kind == "resolver" {
        return Ok(None);
    }
    if work.change.approved_by.is_none()
        && work.part.is_none()
        && !asks_for_second_person(&read_documents(db).await?, &work.edits).is_empty()
    {
        return Ok(Some("requested"));
    }
    let confirmed = work
        .change
        .confirmed
        .clone()
        .map(|stored| read_stored(|| format!("confirmation of C{}", work.change.no), stored));
    let confirmed: Option<Confirmed> = confirmed.transpose()?;
    // If an approved change takes more than it did, who approves is asked again.
    let waits_as = if work.change.approved_by.is_some() { "requested" } else { "unconfirmed" };
    Ok(must_be_confirmed(&prepared.impact, confirmed.as_ref(), prepared.joined).then_some(waits_as))
}
