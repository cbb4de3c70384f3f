//! Activities: long work in progress.

use crate::clock::sql_now;
use constans_wire::activity::Activity;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::PgExecutor;
use uuid::Uuid;

/// Stores the progress of an activity.
pub async fn update(db: impl PgExecutor<'_>, id: Uuid, activity: &Activity) -> sqlx::Result<()> {
    let count = |nodes: usize| i64::try_from(nodes).unwrap_or(i64::MAX);
    sqlx::query(
        "insert into activity (id, what, who, done, total, began_at, updated_at) values ($1, $2, $3, $4, $5, $6, $7)
         on conflict (id) do update set done = excluded.done, updated_at = excluded.updated_at",
    )
    .bind(id)
    .bind(&activity.what)
    .bind(&activity.who)
    .bind(count(activity.done))
    .bind(count(activity.total))
    .bind(activity.began.to_sqlx())
    .bind(sql_now())
    .execute(db)
    .await
    .map(|_| ())
}

/// Removes an activity that ended.
pub async fn end(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    sqlx::query("delete from activity where id = $1").bind(id).execute(db).await.map(|_| ())
}

/// Returns the activities in progress, the oldest first. One that was not updated for a minute ended with its server.
pub async fn list(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Activity>> {
    let rows: Vec<(String, String, i64, i64, SqlTimestamp)> = sqlx::query_as(
        "select what, who, done, total, began_at from activity where updated_at > $1 - interval '1 minute' order by began_at limit 100",
    )
    .bind(sql_now())
    .fetch_all(db)
    .await?;
    let count = |nodes: i64| usize::try_from(nodes).unwrap_or(0);
    let activities = rows.into_iter().map(|(what, who, done, total, began)| Activity {
        what,
        who,
        done: count(done),
        total: count(total),
        began: began.to_jiff(),
    });
    Ok(activities.collect())
}
