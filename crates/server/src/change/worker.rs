//! The loops that work at changes: any process of the server claims one, prepares it and hands it out.

use super::hand_out::{HandOut, hand_out, refusal};
use super::prepare::{Ended, Work, prepare, read_edits};
use super::waves::Part;
use super::{RESOLVER, draft};
use crate::here::Here;
use crate::problem::ApiError;
use crate::store::job::{self, JobKind, JobRow};
use crate::store::{change, fleet, notice, wanted};
use serde_json::json;
use sqlx::PgPool;
use std::sync::Arc;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// How often it is looked for work that another process queued or left.
const EVERY: Duration = Duration::from_millis(500);
/// How often a claim is prolonged.
const PROLONGED: Duration = Duration::from_millis(1_500);
/// How long the next try for the lock waits, at least; as much again is random.
const LOCK_PAUSE_MS: u64 = 50;
/// How often failed work is retried.
const MAX_TRIES: u32 = 10;

/// Works at changes of one kind until the process ends.
pub async fn work(db: PgPool, here: Arc<Here>, kind: JobKind) {
    let owner = Uuid::now_v7();
    let mut failures = 0;
    loop {
        let nudged = here.nudge.notified();
        match job::claim(&db, kind, owner).await {
            Ok(Some(claimed)) => match work_at(&db, &here, claimed, kind, failures).await {
                Ok(()) => failures = 0,
                Err(error) => {
                    failures += 1;
                    tracing::warn!(%error, failures, "work at a change failed and is tried again");
                    tokio::time::sleep(EVERY).await;
                }
            },
            Ok(None) => drop(tokio::time::timeout(EVERY, nudged).await),
            Err(error) => {
                tracing::warn!(%error, "no work can be claimed");
                tokio::time::sleep(EVERY).await;
            }
        }
    }
}

async fn work_at(
    db: &PgPool,
    here: &Here,
    job: JobRow,
    kind: JobKind,
    failures: u32,
) -> Result<(), ApiError> {
    let began = Instant::now();
    let missing = || ApiError::Missing { what: "change", name: format!("C{}", job.subject) };
    let change = change::by_no(db, job.subject).await?.ok_or_else(missing)?;
    let edits = read_edits(&change)?;
    let mut work = Work { here, job, change, edits, part: None };
    let keeper = tokio::spawn(keep(db.clone(), work.job.clone()));
    let ended = match part_of(db, &work.change).await {
        Err(ended) => Err(ended),
        Ok(part) => {
            work.part = part;
            if kind == JobKind::Preview {
                preview(db, &work).await
            } else {
                hand_out_in_turn(db, &work).await
            }
        }
    };
    keeper.abort();
    here.metrics.resolving.observe(began.elapsed().as_secs_f64());
    let recorded = match ended {
        Ok(()) | Err(Ended::Lost) => Ok(()),
        Err(Ended::Stopped(by)) => {
            end(db, &work, "stopped", &format!("C{} was stopped by {by}", work.change.no), "ask for it again")
                .await
        }
        Err(Ended::Refused(message, hint)) => end(db, &work, "refused", &message, &hint).await,
        Err(Ended::Failed(error)) if is_passing(&error) && failures < MAX_TRIES => Err(error),
        Err(Ended::Failed(error)) => {
            tracing::error!(%error, change = work.change.no, "a change cannot be prepared");
            let problem = error.problem();
            end(db, &work, "refused", &problem.title, &problem.hint.unwrap_or_default()).await
        }
    };
    for topic in [notice::ACTIVITIES, "groups"] {
        here.waker.wake(topic);
    }
    recorded
}

async fn part_of(db: &PgPool, change: &change::ChangeRow) -> Result<Option<Part>, Ended> {
    Part::of(&mut *db.acquire().await?, change).await
}

/// Whether the next try may go better.
fn is_passing(error: &ApiError) -> bool {
    matches!(error, ApiError::Database(_) | ApiError::Busy(_) | ApiError::BrokeOff(..))
}

async fn keep(db: PgPool, job: JobRow) {
    loop {
        tokio::time::sleep(PROLONGED).await;
        if let Err(error) = job::prolong(&db, &job).await {
            tracing::warn!(%error, "a claim was not prolonged");
        }
    }
}

async fn hand_out_in_turn(db: &PgPool, work: &Work<'_>) -> Result<(), Ended> {
    let mut connection = db.acquire().await?;
    let mut prepared = prepare(&mut connection, work).await?;
    if let Some(refused) = refusal(work, &prepared.impact) {
        return Err(refused);
    }
    let mut anew: Option<Work<'_>> = None;
    loop {
        match hand_out(&mut connection, anew.as_ref().unwrap_or(work), &mut prepared).await? {
            HandOut::Done | HandOut::Waiting => return Ok(()),
            HandOut::Outdated => {
                let work = anew.insert(work.anew(&mut connection).await?);
                prepared = prepare(&mut connection, work).await?;
            }
            HandOut::Busy => {
                let random = u64::from(Uuid::now_v7().as_bytes()[15]) * LOCK_PAUSE_MS / 255;
                tokio::time::sleep(Duration::from_millis(LOCK_PAUSE_MS + random)).await;
            }
        }
    }
}

impl<'w> Work<'w> {
    /// Returns the same work, to be prepared from the fleet as it is now.
    async fn anew(&self, db: &mut sqlx::PgConnection) -> Result<Work<'w>, Ended> {
        draft::refuse_while_recovering(db).await?;
        let (mut job, mut change) = (self.job.clone(), self.change.clone());
        (job.reached, change.base_rev) = (None, None);
        let part = Part::of(db, &change).await?;
        Ok(Work { here: self.here, job, change, edits: self.edits.clone(), part })
    }
}

async fn preview(db: &PgPool, work: &Work<'_>) -> Result<(), Ended> {
    let mut connection = db.acquire().await?;
    let prepared = prepare(&mut connection, work).await?;
    let mut transaction = sqlx::Connection::begin(&mut *connection).await?;
    if !job::end(&mut *transaction, &work.job).await? {
        return Err(Ended::Lost);
    }
    change::set_impact(&mut *transaction, work.change.no, &json!(prepared.impact)).await?;
    let status = if work.change.is_request && !work.change.is_preview { "requested" } else { "previewed" };
    change::set_status(&mut *transaction, work.change.no, status, None).await?;
    Ok(transaction.commit().await?)
}

async fn end(db: &PgPool, work: &Work<'_>, status: &str, message: &str, hint: &str) -> Result<(), ApiError> {
    let mut transaction = db.begin().await?;
    if job::end(&mut *transaction, &work.job).await? {
        change::drop_nodes(&mut *transaction, &[work.change.no]).await?;
        change::set_status(&mut *transaction, work.change.no, status, Some((message, hint))).await?;
    }
    Ok(transaction.commit().await?)
}

/// How often changes that nobody confirms are looked for.
const TIDIED: Duration = Duration::from_secs(10);

/// Drops changes that nobody confirmed within the hour, and deletes the states that were made for dropped ones.
pub async fn tidy(db: PgPool) {
    loop {
        tokio::time::sleep(TIDIED).await;
        let tidied = async {
            let mut transaction = db.begin().await?;
            change::drop_unfinished(&mut transaction, false).await?;
            transaction.commit().await
        };
        if let Err(error) = tidied.await {
            tracing::warn!(%error, "changes that nobody confirmed are not dropped yet");
        }
        match forget_dropped_states(&db).await {
            Ok(()) | Err(ApiError::Busy(_)) => {}
            Err(error) => tracing::warn!(%error, "states of dropped changes are not deleted yet"),
        }
    }
}

async fn forget_dropped_states(db: &PgPool) -> Result<(), ApiError> {
    if !change::has_dropped_states(db).await? {
        return Ok(());
    }
    let mut transaction = db.begin().await?;
    fleet::lock(&mut transaction).await?;
    if !change::has_dropped_states(&mut *transaction).await? {
        return Ok(());
    }
    let resolver = fleet::read(&mut *transaction).await?.resolver;
    let deleted = change::forget_dropped_states(&mut transaction).await?;
    if deleted > 0 {
        fleet::raise(&mut *transaction, resolver).await?;
        tracing::info!(deleted, "deleted states of changes that came to nothing");
    }
    Ok(transaction.commit().await?)
}

/// Queues a change by itself if this version resolves otherwise than the one before.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn follow_resolver(db: &PgPool) -> Result<(), ApiError> {
    let mut transaction = db.begin().await?;
    fleet::lock_patiently(&mut transaction).await?;
    let before = fleet::read(&mut *transaction).await?.resolver;
    if before < RESOLVER {
        if wanted::node_count(&mut *transaction).await? == 0 {
            fleet::raise(&mut *transaction, RESOLVER).await?;
        } else if !change::is_open(&mut *transaction, "resolver").await?
            && recovering(&mut transaction).await?.is_none()
        {
            let draft = draft::Draft {
                kind: "resolver",
                what: format!(
                    "this version of the server resolves by its rules {RESOLVER}, the one before by {before}"
                ),
                who: "constans",
                because: None,
                edits: Vec::new(),
                although_unusable: true,
                is_preview: false,
                is_request: false,
                confirmed: None,
                goes_back: None,
                unless_changed_after: None,
                request_key: None,
                rollout: None,
                of_rollout: None,
            };
            draft::queue(&mut transaction, &draft).await?;
        }
    }
    Ok(transaction.commit().await?)
}

async fn recovering(db: &mut sqlx::PgConnection) -> sqlx::Result<Option<jiff_sqlx::Timestamp>> {
    crate::store::recovery::since(db).await
}
