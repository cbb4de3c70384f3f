//! Groups, as intervals.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};

/// Returns all groups as they are now.
pub async fn all(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Value>> {
    sqlx::query_scalar(include_str!("sql/group/all.sql")).fetch_all(db).await
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
    sqlx::query(include_str!("sql/group/set_update_node_group.sql"))
        .bind(name)
        .bind(now)
        .execute(&mut *db)
        .await?;
    let Some(body) = body else { return Ok(()) };
    sqlx::query(include_str!("sql/group/set_insert_node_group.sql"))
        .bind(name)
        .bind(body)
        .bind(by)
        .bind(now)
        .bind(change)
        .execute(db)
        .await
        .map(|_| ())
}
