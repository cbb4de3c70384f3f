//! Groups, as intervals.

use super::change::ChangedByRow;
use crate::clock::sql_now;
use serde_json::Value;
use sqlx::types::Json;
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

/// Nodes that are in the same groups and in the same stage.
#[derive(Debug, sqlx::FromRow)]
pub struct PlacedAlikeRow {
    /// The groups.
    pub groups: Json<Vec<String>>,
    /// The stage.
    pub stage: String,
    /// How many there are.
    pub nodes: i64,
}

/// Returns the groups that set something for a time.
pub async fn with_ends(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Value>> {
    sqlx::query_scalar(include_str!("sql/group/with_ends.sql")).fetch_all(db).await
}

/// Returns the change that said that a group has a setting until this moment, as it is written in its document.
pub async fn set_until(
    db: impl PgExecutor<'_>,
    group: &str,
    setting: &str,
    until: &str,
) -> sqlx::Result<Option<ChangedByRow>> {
    sqlx::query_as(include_str!("sql/group/set_until.sql"))
        .bind(group)
        .bind(setting)
        .bind(until)
        .fetch_optional(db)
        .await
}

/// Returns where the nodes of the fleet are placed.
pub async fn placed_alike(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<PlacedAlikeRow>> {
    sqlx::query_as(include_str!("sql/group/placed_alike.sql")).fetch_all(db).await
}

/// Returns the names of the nodes that are in a group, in no order.
pub async fn nodes(db: impl PgExecutor<'_>, group: &str) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/group/in_placements.sql")).bind(group).fetch_all(db).await
}

/// Returns the change that edited a group last.
pub async fn last_change(db: impl PgExecutor<'_>, group: &str) -> sqlx::Result<Option<ChangedByRow>> {
    sqlx::query_as(include_str!("sql/group/last_change.sql")).bind(group).fetch_optional(db).await
}
