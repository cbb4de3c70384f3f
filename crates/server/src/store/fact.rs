//! Facts about nodes, as intervals with two times: when it was so, and when the server learned it. What lists show of a node
//! now stands with the node too.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::PgConnection;
use uuid::Uuid;

/// Says that something is so from now on, and returns whether that is new. Nothing is written if it was so already.
pub async fn now_is(db: &mut PgConnection, node: Uuid, what: &str, value: &Value) -> sqlx::Result<bool> {
    now_are(db, what, &[(node, value)]).await.map(|new| !new.is_empty())
}

/// Says of several nodes what is so from now on, and returns those of which it is new. Nothing is written of the others.
pub async fn now_are(db: &mut PgConnection, what: &str, facts: &[(Uuid, &Value)]) -> sqlx::Result<Vec<Uuid>> {
    let (nodes, values): (Vec<Uuid>, Vec<&Value>) = facts.iter().copied().unzip();
    let now = sql_now();
    sqlx::query(
        "update fact set until_at = $4 from unnest($2::uuid[], $3::jsonb[]) as new (node, value)
         where fact.node = new.node and fact.what = $1 and fact.until_at is null and fact.superseded_at is null and fact.value <> new.value",
    )
    .bind(what)
    .bind(&nodes)
    .bind(&values)
    .bind(now)
    .execute(&mut *db)
    .await?;
    let new: Vec<Uuid> = sqlx::query_scalar(
        "insert into fact (node, what, value, from_at, learned_at) select node, $1, value, $4, $4 from unnest($2::uuid[], $3::jsonb[]) as new (node, value)
         on conflict (node, what) where until_at is null and superseded_at is null do nothing returning node",
    )
    .bind(what)
    .bind(&nodes)
    .bind(&values)
    .bind(now)
    .fetch_all(&mut *db)
    .await?;
    if let (Some(show), false) = (shown(what), new.is_empty()) {
        sqlx::query(show).bind(&nodes).bind(&values).execute(db).await?;
    }
    Ok(new)
}

/// Says of nodes that something is so no more. Nothing is written of those of which it was not.
pub async fn ended(db: &mut PgConnection, what: &str, nodes: &[Uuid]) -> sqlx::Result<()> {
    sqlx::query("update fact set until_at = $3 where node = any($2) and what = $1 and until_at is null and superseded_at is null")
        .bind(what)
        .bind(nodes)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns what shows a fact with its node, if lists show it.
fn shown(what: &str) -> Option<&'static str> {
    Some(match what {
        "labels" => "update node set labels = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id",
        "about" => "update node set about = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id",
        "groups" => "update node set groups = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id",
        "stage" => "update node set stage = new.value #>> '{}' from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id",
        "restart_pending" => {
            "update node set restart_pending = new.value from unnest($1::uuid[], $2::jsonb[]) as new (id, value) where node.id = new.id"
        }
        _ => return None,
    })
}
