//! Long work: queued, claimed for a short time by one process, prolonged while it goes on.

use crate::clock::sql_now;
use constans_wire::activity::Activity;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// For so long a claim holds unless it is prolonged.
const LEASE_SECS: f64 = 5.0;

/// A kind of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JobKind {
    /// A change is prepared and handed out; one at a time, in their order.
    Change,
    /// A change is prepared to see its impact; beside the others.
    Preview,
    /// Evidence is made.
    Evidence,
}

impl JobKind {
    fn word(self) -> &'static str {
        match self {
            Self::Change => "change",
            Self::Preview => "preview",
            Self::Evidence => "evidence",
        }
    }
}

/// A claimed job.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct JobRow {
    /// Its id.
    pub id: i64,
    /// The change or the evidence that it works for.
    pub subject: i64,
    /// Rises with each claim: who holds an earlier one writes nothing any more.
    pub fence: i64,
    /// The last node that is done; none at the beginning.
    pub reached: Option<Uuid>,
    /// How many are done.
    pub done: i64,
    /// How often it was claimed.
    pub tries: i32,
}

/// Queues work for a change or evidence; all nodes up to `reached` are done already.
pub async fn queue(
    db: impl PgExecutor<'_>,
    kind: JobKind,
    subject: i64,
    what: &str,
    who: &str,
    reached: Option<Uuid>,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/job/queue.sql"))
        .bind(kind.word())
        .bind(subject)
        .bind(what)
        .bind(who)
        .bind(sql_now())
        .bind(reached)
        .execute(db)
        .await
        .map(|_| ())
}

/// Claims the oldest open work of a kind, unless someone holds it.
pub async fn claim(db: impl PgExecutor<'_>, kind: JobKind, owner: Uuid) -> sqlx::Result<Option<JobRow>> {
    sqlx::query_as(include_str!("sql/job/claim.sql"))
        .bind(kind.word())
        .bind(owner)
        .bind(sql_now())
        .bind(LEASE_SECS)
        .fetch_optional(db)
        .await
}

/// Prolongs a claim. Returns false if it is no longer ours.
pub async fn prolong(db: impl PgExecutor<'_>, job: &JobRow) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/job/prolong.sql"))
        .bind(job.id)
        .bind(job.fence)
        .bind(sql_now())
        .bind(LEASE_SECS)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// The result of a claim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Claim {
    /// It holds.
    Held,
    /// Someone else works at it.
    Lost,
    /// This person stopped it.
    Stopped(String),
}

/// Notes how far work is, in the transaction of what was done.
pub async fn note(
    db: &mut PgConnection,
    job: &JobRow,
    reached: Option<Uuid>,
    done: i64,
    total: i64,
) -> sqlx::Result<Claim> {
    let row: Option<Option<String>> = sqlx::query_scalar(include_str!("sql/job/note.sql"))
        .bind(job.id)
        .bind(job.fence)
        .bind(reached)
        .bind(done)
        .bind(total)
        .bind(sql_now())
        .bind(LEASE_SECS)
        .fetch_optional(db)
        .await?;
    Ok(match row {
        None => Claim::Lost,
        Some(None) => Claim::Held,
        Some(Some(by)) => Claim::Stopped(by),
    })
}

/// Ends work. Returns false if it is no longer ours.
pub async fn end(db: impl PgExecutor<'_>, job: &JobRow) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/job/end.sql"))
        .bind(job.id)
        .bind(job.fence)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Asks the worker of a change or of evidence to stop. Returns whether there is one.
pub async fn stop(db: impl PgExecutor<'_>, kind: JobKind, subject: i64, by: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/job/stop.sql"))
        .bind(kind.word())
        .bind(subject)
        .bind(by)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Ends all work: what it was for is gone.
pub async fn end_all(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/job/end_all.sql")).bind(sql_now()).execute(db).await.map(|_| ())
}

/// Returns the change that is worked at before this one, if any: its number, who asked for it, how many nodes are done, of how
/// many.
pub async fn ahead_of(db: impl PgExecutor<'_>, change: i64) -> sqlx::Result<Option<(i64, String, i64, i64)>> {
    sqlx::query_as(include_str!("sql/job/ahead_of.sql")).bind(change).fetch_optional(db).await
}

/// Returns the work in progress or waiting, the oldest first; at most 100.
pub async fn open(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Activity>> {
    let rows: Vec<(String, String, i64, i64, SqlTimestamp)> =
        sqlx::query_as(include_str!("sql/job/open.sql")).fetch_all(db).await?;
    let count = |nodes: i64| usize::try_from(nodes).unwrap_or(0);
    let activity = |(what, who, done, total, began): (String, String, i64, i64, SqlTimestamp)| Activity {
        what,
        who,
        done: count(done),
        total: count(total),
        began: began.to_jiff(),
        sweep: None,
        rollout: None,
    };
    Ok(rows.into_iter().map(activity).collect())
}
