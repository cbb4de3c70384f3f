//! Facts about nodes, as intervals with two times: when it was so, and when the server learned it.

use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// Returns whether all of these are so already, so that nothing need be written.
pub async fn are_so(db: impl PgExecutor<'_>, node: Uuid, facts: &[(&str, &Value)]) -> sqlx::Result<bool> {
    let (whats, values): (Vec<&str>, Vec<&Value>) = facts.iter().copied().unzip();
    let alike: i64 = sqlx::query_scalar(
        "select count(*) from fact join unnest($2::text[], $3::jsonb[]) as said (what, value) on fact.what = said.what and fact.value = said.value
         where fact.node = $1 and fact.until_at is null and fact.superseded_at is null",
    )
    .bind(node)
    .bind(whats)
    .bind(values)
    .fetch_one(db)
    .await?;
    Ok(usize::try_from(alike) == Ok(facts.len()))
}

/// Says that something is so from now on, and returns whether that is new. Nothing is written if it was so already.
pub async fn now_is(db: &mut PgConnection, node: Uuid, what: &str, value: &Value) -> sqlx::Result<bool> {
    sqlx::query("update fact set until_at = now() where node = $1 and what = $2 and until_at is null and superseded_at is null and value <> $3")
        .bind(node)
        .bind(what)
        .bind(value)
        .execute(&mut *db)
        .await?;
    sqlx::query("insert into fact (node, what, value, from_at) values ($1, $2, $3, now()) on conflict (node, what) where until_at is null and superseded_at is null do nothing")
        .bind(node)
        .bind(what)
        .bind(value)
        .execute(db)
        .await
        .map(|done| done.rows_affected() > 0)
}
