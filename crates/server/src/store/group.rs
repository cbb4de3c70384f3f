//! Groups, as intervals.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};

/// Returns all groups as they are now.
pub async fn all(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Value>> {
    sqlx::query_scalar(
        "select body from node_group where until_at is null and superseded_at is null order by name",
    )
    .fetch_all(db)
    .await
}

/// Sets a group from now on, or removes it, by a change.
pub async fn set(
    db: &mut PgConnection,
    name: &str,
    body: Option<&Value>,
    by: &str,
    change: i64,
) -> sqlx::Result<()> {
    let now = sql_now();
    sqlx::query(
        "update node_group set until_at = $2 where name = $1 and until_at is null and superseded_at is null",
    )
    .bind(name)
    .bind(now)
    .execute(&mut *db)
    .await?;
    let Some(body) = body else { return Ok(()) };
    sqlx::query("insert into node_group (name, body, set_by, from_at, learned_at, change) values ($1, $2, $3, $4, $4, $5)")
        .bind(name)
        .bind(body)
        .bind(by)
        .bind(now)
        .bind(change)
        .execute(db)
        .await
        .map(|_| ())
}
