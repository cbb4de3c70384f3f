//! Carries rollouts on: a wave that settled is followed by the next one, and one that is too bad halts the rollout.

use super::shown::{figures, wave_figures};
use crate::change::waves::{queue_wave, read_plan};
use crate::clock::now;
use crate::here::Here;
use crate::problem::ApiError;
use crate::store::rollout::{self as stored, StandsRow};
use crate::store::{audit, change, notice, recovery};
use constans_core::rollout::{Judged, RolloutPlan};
use jiff::SignedDuration;
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How often it is looked how the nodes of waves are.
const EVERY: Duration = Duration::from_secs(1);
/// Of many nodes it takes the database a while, and it is looked less often: so many times as long.
const TIMES_AS_LONG: u32 = 5;
/// Who halts by itself.
pub const SERVER: &str = "the server";

/// Goes on carrying rollouts on.
pub async fn keep_going(db: PgPool, here: Arc<Here>) {
    let mut pause = EVERY;
    loop {
        tokio::time::sleep(pause).await;
        let began = Instant::now();
        match stored::going(&db).await {
            Err(error) => tracing::warn!(%error, "rollouts are not carried on yet"),
            Ok(all) => {
                for no in all {
                    match carry_on(&db, no).await {
                        Ok(false) => {}
                        Ok(true) => {
                            here.nudge.nudge();
                            here.waker.wake(notice::ACTIVITIES);
                            here.waker.wake("groups");
                        }
                        Err(error) => tracing::warn!(%error, rollout = no, "a rollout is not carried on yet"),
                    }
                }
            }
        }
        pause = EVERY.max(began.elapsed() * TIMES_AS_LONG);
    }
}

/// Does what is due of a rollout. Returns whether anything was.
///
/// # Errors
///
/// Returns why the database does not answer, or that what it has cannot be read.
pub async fn carry_on(db: &PgPool, no: i64) -> Result<bool, ApiError> {
    let mut transaction = db.begin().await?;
    if recovery::since(&mut *transaction).await?.is_some() {
        return Ok(false);
    }
    let Some(stands) = stored::lock(&mut *transaction, no).await?.filter(|stands| stands.status == "going")
    else {
        return Ok(false);
    };
    let plan = read_plan(no, stands.plan.clone())?;
    let is_due = match stands.next_change {
        Some(next) => halt_if_not_handed_out(&mut transaction, no, next).await?,
        None => judge(&mut transaction, no, &stands, &plan).await?,
    };
    transaction.commit().await?;
    Ok(is_due)
}

/// Halts a rollout whose next wave came to nothing.
async fn halt_if_not_handed_out(db: &mut PgConnection, no: i64, next: i64) -> Result<bool, ApiError> {
    let change = change::by_no(&mut *db, next).await?;
    let Some(change) = change.filter(|change| !matches!(change.status.as_str(), "waiting" | "preparing"))
    else {
        return Ok(false);
    };
    let why = match change.status.as_str() {
        "unconfirmed" => "it takes more clauses, or alters more nodes, than was confirmed".to_owned(),
        status => change.refused.unwrap_or_else(|| format!("it is {status}")),
    };
    halt(db, no, &format!("{} is not handed out (C{next}): {why}", change.what)).await
}

async fn halt(db: &mut PgConnection, no: i64, because: &str) -> Result<bool, ApiError> {
    let is_halted = stored::halt(&mut *db, Some(no), because, SERVER).await?;
    audit::add(db, SERVER, "halted a rollout", &format!("C{no}"), &json!({ "because": because })).await?;
    tracing::warn!(rollout = no, "a rollout is halted");
    Ok(is_halted)
}

async fn judge(
    db: &mut PgConnection,
    no: i64,
    stands: &StandsRow,
    plan: &RolloutPlan,
) -> Result<bool, ApiError> {
    let reached = stands.reached;
    let is_last = reached as usize >= plan.waves.len();
    if reached == 0 || (stands.accepted >= reached && !is_last) {
        return queue_next(db, no, reached + 1, plan).await;
    }
    if stands.accepted >= reached {
        return end(db, no, plan).await;
    }
    let all = figures(&mut *db, no).await?;
    for wave in (stands.accepted + 1)..=reached {
        let figures = wave_figures(&all, wave);
        if figures.judged(plan) == Judged::TooBad {
            let because = format!("wave {wave}: {}, above {} %", figures.bad_words(), plan.bad_above_percent);
            let hint = if is_last { ". Its last wave is handed out: all nodes are to have it" } else { "" };
            return halt(db, no, &format!("{because}{hint}")).await;
        }
    }
    let now = now();
    match (wave_figures(&all, reached).judged(plan), stands.settling_since.map(|since| since.to_jiff())) {
        (Judged::TooBad, _) | (Judged::Unfinished, None) => Ok(false),
        (Judged::Unfinished, Some(_)) => {
            stored::set_settling(db, no, reached, None).await?;
            Ok(true)
        }
        (Judged::Finished, Some(since)) if is_over(since, plan, now) => {
            if is_last {
                end(db, no, plan).await
            } else {
                queue_next(db, no, reached + 1, plan).await
            }
        }
        (Judged::Finished, Some(_)) => Ok(false),
        (Judged::Finished, None) => {
            stored::set_settling(db, no, reached, Some(now)).await?;
            Ok(true)
        }
    }
}

async fn end(db: &mut PgConnection, no: i64, plan: &RolloutPlan) -> Result<bool, ApiError> {
    stored::end(&mut *db, no, "done", SERVER).await?;
    let detail = json!({ "waves": plan.waves.len() });
    audit::add(db, SERVER, "ended a rollout", &format!("C{no}"), &detail).await?;
    Ok(true)
}

fn is_over(since: jiff::Timestamp, plan: &RolloutPlan, now: jiff::Timestamp) -> bool {
    let settle = SignedDuration::from_secs(i64::try_from(plan.settle_secs).unwrap_or(i64::MAX));
    now.duration_since(since) >= settle
}

async fn queue_next(db: &mut PgConnection, no: i64, wave: i32, plan: &RolloutPlan) -> Result<bool, ApiError> {
    let missing = || ApiError::Missing { what: "change", name: format!("C{no}") };
    let change = change::by_no(&mut *db, no).await?.ok_or_else(missing)?;
    queue_wave(db, &change, wave, plan).await?;
    Ok(true)
}
