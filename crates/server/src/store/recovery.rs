//! Recovering: a database that was restored to an earlier state, and what the nodes report that they have.

use super::{change, fleet, job, rollout, sweep};
use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// What this database is, and how far it goes.
#[derive(Debug, sqlx::FromRow)]
pub struct DatabaseRow {
    /// The cluster, its timeline and the database in it.
    pub identity: String,
    /// How often servers noted in it that they are alive.
    pub beats: i64,
    /// The newest counter of a generation that it knows of.
    pub counter: i64,
    /// The newest epoch that it knows of.
    pub epoch: i64,
}

/// Returns what this database is. A restored one is another database or goes less far; a promoted standby has a timeline of
/// its own, which the names of its write-ahead log begin with.
pub async fn database(db: impl PgExecutor<'_>) -> sqlx::Result<DatabaseRow> {
    sqlx::query_as(include_str!("sql/recovery/database.sql")).fetch_one(db).await
}

/// Returns whether this database has nodes, requests to join or releases, which rely on the protected folder beside it.
pub async fn is_in_use(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/recovery/is_in_use.sql")).fetch_one(db).await
}

/// Holds no mark against a node that it showed before: this database knows older ones.
pub async fn forgive_marks(db: impl PgExecutor<'_>) -> sqlx::Result<u64> {
    Ok(sqlx::query(include_str!("sql/recovery/forgive_marks.sql")).execute(db).await?.rows_affected())
}

/// Returns the newest counter that this database knows of.
pub async fn newest_counter(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/recovery/newest_counter.sql")).fetch_one(db).await
}

/// Begins recovering, and lets counters go on after what was handed out.
pub async fn begin(db: &mut PgConnection, epoch: i64, handed_out: i64) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/recovery/begin_select_value.sql"))
        .bind(handed_out)
        .execute(&mut *db)
        .await?;
    change::drop_unfinished(&mut *db, true).await?;
    job::end_all(&mut *db).await?;
    sweep::end_all(&mut *db, "constans").await?;
    rollout::halt(&mut *db, None, "the database was put back to an earlier state", "constans").await?;
    fleet::begin_epoch(&mut *db, epoch).await?;
    sqlx::query(include_str!("sql/recovery/begin_insert_recovery.sql"))
        .bind(epoch)
        .bind(handed_out)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns since when the server is recovering, if it is.
pub async fn since(db: impl PgExecutor<'_>) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar(include_str!("sql/recovery/since.sql")).fetch_optional(db).await
}

/// A node while the server recovers.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeRow {
    /// Its name.
    pub name: String,
    /// The state that it reported since the server recovers.
    pub has: Option<String>,
    /// Whether it checked in since.
    pub heard: bool,
    /// The state that this database wants of it.
    pub wanted: Option<String>,
}

/// Returns the nodes that are not refused: what each has, and what it would be given.
pub async fn nodes(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<NodeRow>> {
    sqlx::query_as(include_str!("sql/recovery/nodes.sql")).fetch_all(db).await
}

/// Ends recovering: what this database wants is wanted from now on, under the new epoch. Returns whether it was recovering.
pub async fn end(db: &mut PgConnection, by: &str) -> sqlx::Result<bool> {
    let epoch: Option<i64> = sqlx::query_scalar(include_str!("sql/recovery/end_update_recovery.sql"))
        .bind(by)
        .bind(sql_now())
        .fetch_optional(&mut *db)
        .await?;
    let Some(epoch) = epoch else { return Ok(false) };
    fleet::lock_patiently(&mut *db).await?;
    fleet::begin_epoch(&mut *db, epoch).await?;
    sqlx::query(include_str!("sql/recovery/end_update_node_wanted.sql")).bind(epoch).execute(db).await?;
    Ok(true)
}

/// Refuses nodes again that were refused before the database was put back. Returns the names of those that needed it.
pub async fn refuse_again(
    db: impl PgExecutor<'_>,
    nodes: &[Uuid],
    at: &[SqlTimestamp],
) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/recovery/refuse_again.sql")).bind(nodes).bind(at).fetch_all(db).await
}

/// Refuses keys again, each since when it is refused.
pub async fn refuse_keys(
    db: impl PgExecutor<'_>,
    keys: &[Vec<u8>],
    at: &[SqlTimestamp],
) -> sqlx::Result<u64> {
    let sql = "update node_key set revoked_at = refused.at from unnest($1::bytea[], $2::timestamptz[]) as refused (key, at)
               where spki_digest = refused.key and revoked_at is null";
    Ok(sqlx::query(sql).bind(keys).bind(at).execute(db).await?.rows_affected())
}
