//! Which nodes are followed, and what their agents tell of the run under way.

use crate::clock::sql_now;
use constans_wire::follow::{MAX_AT_ONCE, MAX_OF_RUN, ToldRun};
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// Returns how many nodes are followed.
pub async fn count(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/follow/count.sql")).bind(sql_now()).fetch_one(db).await
}

/// Returns whether a node is followed.
pub async fn is_followed(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/follow/is_followed.sql"))
        .bind(node)
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// A node is followed for longer. Returns whether it was followed until now.
pub async fn go_on(db: impl PgExecutor<'_>, node: Uuid, until: Timestamp) -> sqlx::Result<bool> {
    let followed = sqlx::query(include_str!("sql/follow/go_on.sql"))
        .bind(node)
        .bind(sql_now())
        .bind(until.to_sqlx())
        .execute(db)
        .await?;
    Ok(followed.rows_affected() > 0)
}

/// A node is followed from now on; what was told before is deleted.
pub async fn begin(db: &mut PgConnection, node: Uuid, until: Timestamp) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/follow/forget.sql")).bind(node).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/follow/begin.sql"))
        .bind(node)
        .bind(sql_now())
        .bind(until.to_sqlx())
        .execute(db)
        .await?;
    Ok(())
}

/// A node that is followed.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct FollowRow {
    pub began_at: SqlTimestamp,
    pub until_at: SqlTimestamp,
    pub was_waiting: bool,
    pub run: Option<Value>,
    pub heard_at: Option<SqlTimestamp>,
    pub promised_at: Option<SqlTimestamp>,
}

/// Returns how a node is followed.
pub async fn of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<FollowRow> {
    sqlx::query_as(include_str!("sql/follow/of.sql")).bind(node).fetch_one(db).await
}

/// Returns what came out of clauses of its run after a number, in their order.
pub async fn clauses(
    db: impl PgExecutor<'_>,
    node: Uuid,
    run: Uuid,
    after: i64,
) -> sqlx::Result<Vec<(i64, Value)>> {
    sqlx::query_as(include_str!("sql/follow/clauses.sql"))
        .bind(node)
        .bind(run)
        .bind(after)
        .bind(i64::try_from(MAX_AT_ONCE).unwrap_or(i64::MAX))
        .fetch_all(db)
        .await
}

/// Stores what an agent tells, in place of what it told of an earlier run. Returns whether anybody follows; nothing is stored otherwise.
pub async fn tell(db: &mut PgConnection, node: Uuid, told: &ToldRun) -> sqlx::Result<bool> {
    let is_followed = sqlx::query(include_str!("sql/follow/tell.sql"))
        .bind(node)
        .bind(sql_now())
        .bind(told.run.id)
        .bind(text(&told.run)?)
        .execute(&mut *db)
        .await?;
    if is_followed.rows_affected() == 0 {
        return Ok(false);
    }
    sqlx::query(include_str!("sql/follow/forget_others.sql"))
        .bind(node)
        .bind(told.run.id)
        .execute(&mut *db)
        .await?;
    let numbered = (told.first..=MAX_OF_RUN).zip(told.clauses.iter().take(MAX_AT_ONCE));
    let (mut numbers, mut texts) = (Vec::new(), Vec::new());
    for (no, clause) in numbered {
        numbers.push(i64::try_from(no).unwrap_or(i64::MAX));
        texts.push(text(clause)?);
    }
    sqlx::query(include_str!("sql/follow/add_clauses.sql"))
        .bind(node)
        .bind(told.run.id)
        .bind(numbers)
        .bind(texts)
        .execute(db)
        .await?;
    Ok(true)
}

fn text(value: &impl serde::Serialize) -> sqlx::Result<String> {
    serde_json::to_string(value).map_err(|error| sqlx::Error::Encode(error.into()))
}
