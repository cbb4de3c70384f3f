//! What each node is wanted to be.

use jiff_sqlx::Timestamp as SqlTimestamp;
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
    pub labels: Option<Value>,
    /// What it found out about itself.
    pub about: Option<Value>,
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
        "select node.id, node.name, labels.value as labels, about.value as about, w.state, w.settings, w.unusable
         from node
         left join fact labels on labels.node = node.id and labels.what = 'labels' and labels.until_at is null and labels.superseded_at is null
         left join fact about on about.node = node.id and about.what = 'about' and about.until_at is null and about.superseded_at is null
         left join node_wanted w on w.node = node.id
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
         from fact join node on node.id = fact.node and node.retired_at is null, jsonb_each_text(fact.value) as label
         where fact.what = 'labels' and fact.until_at is null and fact.superseded_at is null
         group by label.key order by label.key limit 10000",
    )
    .fetch_all(db)
    .await
}

/// Stores an effective state once for the whole fleet.
pub async fn store_state(db: impl PgExecutor<'_>, digest: &str, body: &Value, names: &[String], releases: &[String]) -> sqlx::Result<()> {
    sqlx::query("insert into effective_state (digest, body, names, releases) values ($1, $2, $3, $4) on conflict (digest) do nothing")
        .bind(digest)
        .bind(body)
        .bind(names)
        .bind(releases)
        .execute(db)
        .await
        .map(|_| ())
}

/// Says what a node is wanted to be from now on. Its counter rises.
pub async fn set(db: &mut PgConnection, node: Uuid, state: Option<&str>, settings: &Value, epoch: i64) -> sqlx::Result<()> {
    sqlx::query(
        "insert into node_wanted (node, state, epoch, counter, settings) values ($1, $2, $4, nextval('generation_counter'), $3)
         on conflict (node) do update set state = excluded.state, settings = excluded.settings, epoch = excluded.epoch,
             counter = excluded.counter, unusable = null, since = now()",
    )
    .bind(node)
    .bind(state)
    .bind(settings)
    .bind(epoch)
    .execute(db)
    .await
    .map(|_| ())
}

/// Says that a node's state cannot be resolved; it keeps its last good one.
pub async fn set_unusable(db: &mut PgConnection, node: Uuid, because: &str, settings: &Value, epoch: i64) -> sqlx::Result<()> {
    sqlx::query(
        "insert into node_wanted (node, epoch, counter, settings, unusable) values ($1, $2, 0, $3, $4)
         on conflict (node) do update set unusable = excluded.unusable",
    )
    .bind(node)
    .bind(epoch)
    .bind(settings)
    .bind(because)
    .execute(db)
    .await
    .map(|_| ())
}

/// Notes where the parts of what a node is wanted to be come from.
pub async fn explain(db: &mut PgConnection, node: Uuid, explained: &Value) -> sqlx::Result<()> {
    sqlx::query("update node_wanted set explained = $2 where node = $1 and explained <> $2").bind(node).bind(explained).execute(db).await.map(|_| ())
}

/// Returns where the parts of what a node is wanted to be come from.
pub async fn explained(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar("select explained from node_wanted where node = $1").bind(node).fetch_optional(db).await
}

/// What a node is wanted to be.
#[derive(Debug, sqlx::FromRow)]
pub struct WantedRow {
    /// The digest of its state.
    pub state: Option<String>,
    /// The epoch of its generation.
    pub epoch: i64,
    /// The counter of its generation.
    pub counter: i64,
    /// How its agent is set.
    pub settings: Value,
    /// Why its state cannot be resolved.
    pub unusable: Option<String>,
    /// Since when.
    pub since: SqlTimestamp,
    /// Whether the server is recovering: then nothing of this is offered.
    pub recovering: bool,
}

/// Returns what a node is wanted to be.
pub async fn of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<WantedRow>> {
    sqlx::query_as(
        "select state, epoch, counter, settings, unusable, since, exists (select 1 from recovery where ended_at is null) as recovering
         from node_wanted where node = $1",
    )
    .bind(node)
    .fetch_optional(db)
    .await
}

/// Returns a node's own effective state by its digest; none if it is another node's.
pub async fn own_state(db: impl PgExecutor<'_>, node: Uuid, digest: &str) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar("select s.body from effective_state s join node_wanted w on w.state = s.digest where w.node = $1 and s.digest = $2")
        .bind(node)
        .bind(digest)
        .fetch_optional(db)
        .await
}

/// Returns an effective state by its digest.
pub async fn state(db: impl PgExecutor<'_>, digest: &str) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar("select body from effective_state where digest = $1").bind(digest).fetch_optional(db).await
}

/// Returns the states that were wanted of a node, that an enforcing run of it brought in, and that are wanted no more: the
/// oldest first, each with the moment until which it was wanted; at most the last 100.
pub async fn past_states(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<(Value, SqlTimestamp)>> {
    sqlx::query_as(
        "select body, until_at from (
             select s.body, f.until_at from fact f join effective_state s on s.digest = f.value ->> 'state'
             where f.node = $1 and f.what = 'wanted' and f.until_at is not null and f.superseded_at is null
                 and (exists (select 1 from run r where r.node = $1 and r.state = s.digest and r.mode = 'enforce')
                     or exists (select 1 from run_span p where p.node = $1 and p.state = s.digest and p.mode = 'enforce'))
             order by f.until_at desc limit 100) last
         order by until_at",
    )
    .bind(node)
    .fetch_all(db)
    .await
}

/// Returns contents that a node's own state names; none if it names none so. What is concealed is withheld while two
/// machines were seen with this identity.
pub async fn own_content(db: impl PgExecutor<'_>, node: Uuid, name: &str) -> sqlx::Result<Option<Vec<u8>>> {
    sqlx::query_scalar(
        "select c.bytes from content c join node_wanted w on w.node = $1 join effective_state s on s.digest = w.state where c.name = $2 and $2 = any(s.names)
             and not (c.sealed and exists (select 1 from node_mark m where m.node = $1 and m.double_since is not null))",
    )
    .bind(node)
    .bind(name)
    .fetch_optional(db)
    .await
}

/// Returns the releases that effective states are made of, by digest.
pub async fn releases(db: impl PgExecutor<'_>, digests: &[String]) -> sqlx::Result<Vec<(String, Vec<String>)>> {
    sqlx::query_as("select digest, releases from effective_state where digest = any($1)").bind(digests).fetch_all(db).await
}
