//! Stages and what they serve, as intervals.

use sqlx::{PgConnection, PgExecutor};

/// Returns the stages in order.
pub async fn names(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar("select name from stage order by place").fetch_all(db).await
}

/// Returns what all stages serve now, as (stage, kit, version).
pub async fn served(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, String, String)>> {
    sqlx::query_as("select stage, kit, version from served where until_at is null and superseded_at is null order by stage, kit").fetch_all(db).await
}

/// Serves a release in a stage from now on.
pub async fn serve(db: &mut PgConnection, stage: &str, kit: &str, version: &str, by: &str) -> sqlx::Result<()> {
    sqlx::query("update served set until_at = now() where stage = $1 and kit = $2 and until_at is null and superseded_at is null")
        .bind(stage)
        .bind(kit)
        .execute(&mut *db)
        .await?;
    sqlx::query("insert into served (stage, kit, version, served_by) values ($1, $2, $3, $4)")
        .bind(stage)
        .bind(kit)
        .bind(version)
        .bind(by)
        .execute(db)
        .await
        .map(|_| ())
}
