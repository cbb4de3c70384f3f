//! The desired state of each node.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// A node with what resolving needs to know of it, and what it is wanted to be so far.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeViewRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: Value,
    /// What its agent reported about it.
    pub about: Value,
    /// The digest of its state so far.
    pub state: Option<String>,
    /// Its settings so far.
    pub settings: Option<Value>,
    /// Why its state could not be resolved so far.
    pub unusable: Option<String>,
}

/// Returns all nodes that were not retired, or one of them.
pub async fn node_views(db: impl PgExecutor<'_>, only: Option<Uuid>) -> sqlx::Result<Vec<NodeViewRow>> {
    sqlx::query_as(
        "select node.id, node.name, node.labels, node.about, w.state, w.settings, w.unusable
         from node left join node_wanted w on w.node = node.id
         where node.retired_at is null and ($1::uuid is null or node.id = $1) order by node.name",
    )
    .bind(only)
    .fetch_all(db)
    .await
}

/// Returns the labels that nodes have, each with its values; at most 10,000.
pub async fn labels(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, Vec<String>)>> {
    sqlx::query_as(
        "select label.key, array_agg(distinct label.value order by label.value)
         from node, jsonb_each_text(node.labels) as label where node.retired_at is null
         group by label.key order by label.key limit 10000",
    )
    .fetch_all(db)
    .await
}

/// The desired state of a node from now on.
pub struct NewWanted<'a> {
    /// The node.
    pub node: Uuid,
    /// The digest of its state.
    pub state: &'a str,
    /// The settings of its agent.
    pub settings: &'a Value,
    /// Its mode, as lists show it.
    pub mode: &'a str,
    /// After so many seconds without a full run its runs are overdue.
    pub overdue_secs: i64,
}

/// Says the desired state of nodes from now on. Their counters rise.
pub async fn set(db: &mut PgConnection, epoch: i64, all: &[NewWanted<'_>]) -> sqlx::Result<()> {
    let nodes: Vec<Uuid> = all.iter().map(|new| new.node).collect();
    sqlx::query(
        "insert into node_wanted (node, state, epoch, counter, settings, overdue_secs, since)
         select node, state, $5, nextval('generation_counter'), settings, overdue_secs, $6
         from unnest($1::uuid[], $2::text[], $3::jsonb[], $4::bigint[]) as new (node, state, settings, overdue_secs)
         on conflict (node) do update set state = excluded.state, settings = excluded.settings, epoch = excluded.epoch,
             counter = excluded.counter, unusable = null, since = excluded.since, overdue_secs = excluded.overdue_secs",
    )
    .bind(&nodes)
    .bind(all.iter().map(|new| new.state).collect::<Vec<_>>())
    .bind(all.iter().map(|new| new.settings).collect::<Vec<_>>())
    .bind(all.iter().map(|new| new.overdue_secs).collect::<Vec<_>>())
    .bind(epoch)
    .bind(sql_now())
    .execute(&mut *db)
    .await?;
    sqlx::query(
        "update node set mode = new.mode from unnest($1::uuid[], $2::text[]) as new (id, mode) where node.id = new.id and node.mode <> new.mode",
    )
    .bind(&nodes)
    .bind(all.iter().map(|new| new.mode).collect::<Vec<_>>())
    .execute(db)
    .await
    .map(|_| ())
}

/// Brings how nodes are now, or one of them, in step with what they are wanted to be. Check-ins and runs wait for this until
/// the transaction ends, so it is done last.
pub async fn show(db: &mut PgConnection, only: Option<Uuid>) -> sqlx::Result<()> {
    sqlx::query(
        "update node_now n set is_unusable = w.unusable is not null, overdue_secs = w.overdue_secs,
             overdue_at = coalesce(n.full_learned, $2) + make_interval(secs => w.overdue_secs)
         from node_wanted w where w.node = n.node and ($1::uuid is null or w.node = $1)
             and (n.is_unusable <> (w.unusable is not null) or n.overdue_secs is distinct from w.overdue_secs)",
    )
    .bind(only)
    .bind(sql_now())
    .execute(db)
    .await
    .map(|_| ())
}

/// Says that a node's state cannot be resolved; it keeps its last good one, and gets its mode and settings all the same.
pub async fn set_unusable(db: &mut PgConnection, node: Uuid, because: &str, settings: &Value, epoch: i64) -> sqlx::Result<()> {
    sqlx::query(
        "insert into node_wanted (node, epoch, counter, settings, unusable, since) values ($1, $2, 0, $3, $4, $5)
         on conflict (node) do update set unusable = excluded.unusable, settings = excluded.settings,
             epoch = case when node_wanted.settings = excluded.settings then node_wanted.epoch else excluded.epoch end,
             counter = case when node_wanted.settings = excluded.settings then node_wanted.counter else nextval('generation_counter') end",
    )
    .bind(node)
    .bind(epoch)
    .bind(settings)
    .bind(because)
    .bind(sql_now())
    .execute(&mut *db)
    .await?;
    sqlx::query("update node set mode = $2 ->> 'mode' where id = $1 and mode is distinct from $2 ->> 'mode'")
        .bind(node)
        .bind(settings)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes where the parts of the desired state of nodes come from.
pub async fn set_sources(db: &mut PgConnection, all: &[(Uuid, &Value)]) -> sqlx::Result<()> {
    let (nodes, sources): (Vec<Uuid>, Vec<&Value>) = all.iter().copied().unzip();
    sqlx::query(
        "update node_wanted w set sources = new.sources from unnest($1::uuid[], $2::jsonb[]) as new (node, sources)
         where w.node = new.node and w.sources <> new.sources",
    )
    .bind(nodes)
    .bind(sources)
    .execute(db)
    .await
    .map(|_| ())
}

/// Returns where the parts of the desired state of a node come from.
pub async fn sources(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar("select sources from node_wanted where node = $1").bind(node).fetch_optional(db).await
}

/// The desired state of a node.
#[derive(Debug, sqlx::FromRow)]
pub struct WantedRow {
    /// The digest of its state.
    pub state: Option<String>,
    /// The epoch of its generation.
    pub epoch: i64,
    /// The counter of its generation.
    pub counter: i64,
    /// The settings of its agent.
    pub settings: Value,
    /// Whether the server is recovering: then nothing of this is offered.
    pub recovering: bool,
}

/// Returns the desired state of a node.
pub async fn of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<WantedRow>> {
    sqlx::query_as(
        "select state, epoch, counter, settings, exists (select 1 from recovery where ended_at is null) as recovering
         from node_wanted where node = $1",
    )
    .bind(node)
    .fetch_optional(db)
    .await
}
