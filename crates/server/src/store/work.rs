//! Long work that is under way.

use crate::clock::sql_now;
use constans_wire::work::Work;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::PgExecutor;
use uuid::Uuid;

/// Tells how far work is.
pub async fn tell(db: impl PgExecutor<'_>, id: Uuid, work: &Work) -> sqlx::Result<()> {
    let count = |nodes: usize| i64::try_from(nodes).unwrap_or(i64::MAX);
    sqlx::query(
        "insert into work (id, what, who, done, total, began_at, told_at) values ($1, $2, $3, $4, $5, $6, $7)
         on conflict (id) do update set done = excluded.done, told_at = excluded.told_at",
    )
    .bind(id)
    .bind(&work.what)
    .bind(&work.who)
    .bind(count(work.done))
    .bind(count(work.total))
    .bind(work.began.to_sqlx())
    .bind(sql_now())
    .execute(db)
    .await
    .map(|_| ())
}

/// Says that work ended.
pub async fn end(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    sqlx::query("delete from work where id = $1").bind(id).execute(db).await.map(|_| ())
}

/// Returns the work that is under way, the oldest first. What was not told of for a minute broke off with its server.
pub async fn under_way(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Work>> {
    let rows: Vec<(String, String, i64, i64, SqlTimestamp)> =
        sqlx::query_as("select what, who, done, total, began_at from work where told_at > $1 - interval '1 minute' order by began_at limit 100")
            .bind(sql_now())
            .fetch_all(db)
            .await?;
    let count = |nodes: i64| usize::try_from(nodes).unwrap_or(0);
    let work =
        rows.into_iter().map(|(what, who, done, total, began)| Work { what, who, done: count(done), total: count(total), began: began.to_jiff() });
    Ok(work.collect())
}
