//! Recovering: a database that was put back to an earlier day, and what the nodes say that they have.

use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// Returns the newest counter that this database knows of.
pub async fn newest_counter(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar("select case when is_called then last_value else 0 end from generation_counter").fetch_one(db).await
}

/// Returns the newest epoch that this database knows of.
pub async fn newest_epoch(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar("select greatest(1, (select max(epoch) from node_wanted), (select max(epoch) from recovery))").fetch_one(db).await
}

/// Begins recovering, and lets counters go on after what was handed out.
pub async fn begin(db: &mut PgConnection, epoch: i64, handed_out: i64) -> sqlx::Result<()> {
    sqlx::query("select setval('generation_counter', $1)").bind(handed_out).execute(&mut *db).await?;
    sqlx::query("insert into recovery (epoch, handed_out, since) values ($1, $2, $3) on conflict do nothing")
        .bind(epoch)
        .bind(handed_out)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns since when the server is recovering, if it is.
pub async fn since(db: impl PgExecutor<'_>) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar("select since from recovery where ended_at is null").fetch_optional(db).await
}

/// A node while the server recovers.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeRow {
    /// Its name.
    pub name: String,
    /// The state that it said it has, since the server recovers.
    pub has: Option<String>,
    /// Whether it was heard since.
    pub heard: bool,
    /// The state that this database wants of it.
    pub wanted: Option<String>,
}

/// Returns the nodes that are not refused: what each has, and what it would be given.
pub async fn nodes(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<NodeRow>> {
    sqlx::query_as(
        "select node.name, n.has_state as has, w.state as wanted, coalesce(n.heard_at >= r.since, false) as heard
         from recovery r cross join node join node_now n on n.node = node.id left join node_wanted w on w.node = node.id
         where r.ended_at is null and node.revoked_at is null and node.retired_at is null order by node.name limit 100000",
    )
    .fetch_all(db)
    .await
}

/// Ends recovering: what this database wants is wanted from now on, under the new epoch. Returns whether it was recovering.
pub async fn end(db: &mut PgConnection, by: &str) -> sqlx::Result<bool> {
    let epoch: Option<i64> = sqlx::query_scalar("update recovery set ended_at = $2, ended_by = $1 where ended_at is null returning epoch")
        .bind(by)
        .bind(sql_now())
        .fetch_optional(&mut *db)
        .await?;
    let Some(epoch) = epoch else { return Ok(false) };
    sqlx::query("update node_wanted set epoch = $1, counter = nextval('generation_counter')").bind(epoch).execute(db).await?;
    Ok(true)
}

/// Refuses a node again that was refused before the database was put back. Returns its name if that was needed.
pub async fn refuse_again(db: impl PgExecutor<'_>, node: Uuid, at: SqlTimestamp) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(
        "with revoked as (update node set revoked_at = $2 where id = $1 and revoked_at is null returning id, name),
             shown as (update node_now set is_refused = true from revoked where node = revoked.id)
         select name from revoked",
    )
    .bind(node)
    .bind(at)
    .fetch_optional(db)
    .await
}

/// Refuses keys again.
pub async fn refuse_keys(db: impl PgExecutor<'_>, keys: &[Vec<u8>], at: SqlTimestamp) -> sqlx::Result<u64> {
    let done =
        sqlx::query("update node_key set revoked_at = $2 where spki_digest = any($1) and revoked_at is null").bind(keys).bind(at).execute(db).await?;
    Ok(done.rows_affected())
}
