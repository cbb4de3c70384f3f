//! Stages and what they serve, as intervals.

use crate::clock::sql_now;
use constans_core::change::StageEntry;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::{PgConnection, PgExecutor};

/// Returns the stages in order.
pub async fn names(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/stage/names.sql")).fetch_all(db).await
}

/// Returns the stages in order, with what each asks for.
pub async fn all(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<StageEntry>> {
    let rows: Vec<(String, bool)> = sqlx::query_as(include_str!("sql/stage/all.sql")).fetch_all(db).await?;
    Ok(rows.into_iter().map(|(name, second_person)| StageEntry { name, second_person }).collect())
}

/// Returns what all stages serve now, as (stage, kit, version).
pub async fn served(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, String, String)>> {
    sqlx::query_as(include_str!("sql/stage/served.sql")).fetch_all(db).await
}

/// A time for which a stage served a release.
#[derive(Debug, sqlx::FromRow)]
pub struct ServedRow {
    /// The stage.
    pub stage: String,
    /// The release's version.
    pub version: String,
    /// From when.
    pub from_at: SqlTimestamp,
    /// Until when.
    pub until_at: Option<SqlTimestamp>,
    /// Who did it.
    pub served_by: String,
}

/// Returns where and when these releases of a kit were served, the newest first; at most the last 10,000 times.
pub async fn history(
    db: impl PgExecutor<'_>,
    kit: &str,
    versions: &[String],
) -> sqlx::Result<Vec<ServedRow>> {
    sqlx::query_as(include_str!("sql/stage/history.sql")).bind(kit).bind(versions).fetch_all(db).await
}

/// Returns the release that a stage served last before the present one, and that was not withdrawn.
pub async fn before(
    db: impl PgExecutor<'_>,
    stage: &str,
    kit: &str,
    present: &str,
) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(include_str!("sql/stage/before.sql"))
        .bind(stage)
        .bind(kit)
        .bind(present)
        .fetch_optional(db)
        .await
}

/// Serves a release of a kit in a stage from now on, or none, by a change.
pub async fn serve(
    db: &mut PgConnection,
    stage: &str,
    kit: &str,
    version: Option<&str>,
    by: &str,
    change: i64,
) -> sqlx::Result<()> {
    let now = sql_now();
    sqlx::query(include_str!("sql/stage/serve_update_served.sql"))
        .bind(stage)
        .bind(kit)
        .bind(now)
        .execute(&mut *db)
        .await?;
    let Some(version) = version else { return Ok(()) };
    sqlx::query(include_str!("sql/stage/serve_insert_served.sql"))
        .bind(stage)
        .bind(kit)
        .bind(version)
        .bind(by)
        .bind(now)
        .bind(change)
        .execute(db)
        .await
        .map(|_| ())
}

/// Sets the stages, in their order.
pub async fn set(db: &mut PgConnection, stages: &[StageEntry]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/stage/set_delete_stage.sql")).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/stage/set_insert_stage.sql"))
        .bind(stages.iter().map(|stage| stage.name.as_str()).collect::<Vec<_>>())
        .bind(stages.iter().map(|stage| stage.second_person).collect::<Vec<_>>())
        .execute(db)
        .await
        .map(|_| ())
}
