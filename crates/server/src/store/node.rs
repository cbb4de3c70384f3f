//! Nodes and their keys.

use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::PgExecutor;
use uuid::Uuid;

/// Whether a node is heard.
#[derive(Debug, sqlx::FromRow)]
pub struct StandingRow {
    /// Its name.
    pub name: String,
    /// Whether it or its key was revoked, or it was retired.
    pub is_refused: bool,
}

/// Returns the standing of the node with this id and this key.
pub async fn by_key(db: impl PgExecutor<'_>, id: Uuid, spki: &[u8]) -> sqlx::Result<Option<StandingRow>> {
    sqlx::query_as(
        "select node.name, (node.revoked_at is not null or node.retired_at is not null or node_key.revoked_at is not null) as is_refused
         from node join node_key on node_key.node = node.id where node.id = $1 and node_key.spki_digest = $2",
    )
    .bind(id)
    .bind(spki)
    .fetch_optional(db)
    .await
}

/// Returns the id of the node that has this name now. It is locked until the transaction ends.
pub async fn by_name(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Uuid>> {
    sqlx::query_scalar("select id from node where name = $1 and retired_at is null for update").bind(name).fetch_optional(db).await
}

/// Returns the names of all nodes that have one of these names.
pub async fn names_in_use(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar("select name from node where name = any($1) and retired_at is null").bind(names).fetch_all(db).await
}

/// Adds a node.
pub async fn add(db: impl PgExecutor<'_>, id: Uuid, name: &str) -> sqlx::Result<()> {
    sqlx::query("insert into node (id, name) values ($1, $2)").bind(id).bind(name).execute(db).await.map(|_| ())
}

/// Gives a known node on a new machine its way back: it is no longer revoked, and its older keys are. Returns those.
pub async fn let_back(db: &mut sqlx::PgConnection, id: Uuid) -> sqlx::Result<Vec<Vec<u8>>> {
    sqlx::query("update node set revoked_at = null where id = $1").bind(id).execute(&mut *db).await?;
    sqlx::query_scalar("update node_key set revoked_at = now() where node = $1 and revoked_at is null returning spki_digest")
        .bind(id)
        .fetch_all(db)
        .await
}

/// Replaces the certificate of a key by a newer one.
pub async fn renew(db: impl PgExecutor<'_>, id: Uuid, spki: &[u8], certificate: &str, ends_at: Timestamp) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "update node_key set certificate = $3, ends_at = $4, issued_at = now() where node = $1 and spki_digest = $2 and revoked_at is null",
    )
    .bind(id)
    .bind(spki)
    .bind(certificate)
    .bind(ends_at.to_sqlx())
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Adds a key with its certificate.
pub async fn add_key(db: impl PgExecutor<'_>, id: Uuid, spki: &[u8], certificate: &str, ends_at: Timestamp) -> sqlx::Result<()> {
    sqlx::query("insert into node_key (spki_digest, node, certificate, ends_at) values ($1, $2, $3, $4)")
        .bind(spki)
        .bind(id)
        .bind(certificate)
        .bind(ends_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the certificate of a key, with the node's id and name, and its end.
pub async fn certificate(db: impl PgExecutor<'_>, spki: &[u8]) -> sqlx::Result<Option<(Uuid, String, String, SqlTimestamp)>> {
    sqlx::query_as(
        "select node.id, node.name, node_key.certificate, node_key.ends_at from node_key join node on node.id = node_key.node where spki_digest = $1",
    )
    .bind(spki)
    .fetch_optional(db)
    .await
}

/// A key that is known.
#[derive(Debug, sqlx::FromRow)]
pub struct KeyRow {
    /// The node.
    pub node: Uuid,
    /// Its name.
    pub name: String,
    /// Whether the node or its key was revoked, or the node retired.
    pub is_refused: bool,
    /// Whether its certificate ended.
    pub has_ended: bool,
}

/// Returns what is known of a key.
pub async fn of_key(db: impl PgExecutor<'_>, spki: &[u8]) -> sqlx::Result<Option<KeyRow>> {
    sqlx::query_as(
        "select node.id as node, node.name, (node.revoked_at is not null or node.retired_at is not null or node_key.revoked_at is not null) as is_refused,
             node_key.ends_at <= now() as has_ended
         from node_key join node on node.id = node_key.node where spki_digest = $1",
    )
    .bind(spki)
    .fetch_optional(db)
    .await
}

/// Refuses a node from now on. Returns whether it was not refused before.
pub async fn revoke(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<bool> {
    let done = sqlx::query("update node set revoked_at = now() where id = $1 and revoked_at is null").bind(id).execute(db).await?;
    Ok(done.rows_affected() > 0)
}

/// A node with what is so of it now.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Since when it is refused.
    pub revoked_at: Option<SqlTimestamp>,
    /// Its labels.
    pub labels: Option<Value>,
    /// What it found out about itself.
    pub about: Option<Value>,
    /// When it was heard last.
    pub last_at: Option<SqlTimestamp>,
    /// When it promised to come next.
    pub promised_at: Option<SqlTimestamp>,
    /// For how many seconds since then the server itself could not hear.
    pub server_down_secs: i64,
    /// Its clock minus the server's, in milliseconds.
    pub clock_off_ms: Option<i64>,
    /// Until when its certificate holds.
    pub ends_at: Option<SqlTimestamp>,
    /// Its stage.
    pub stage: Option<Value>,
    /// Its groups.
    pub groups: Option<Value>,
    /// The digest of the state that is wanted.
    pub state: Option<String>,
    /// Its settings.
    pub settings: Option<Value>,
    /// Why its state cannot be resolved.
    pub unusable: Option<String>,
    /// Since when two machines were seen with this identity.
    pub double_since: Option<SqlTimestamp>,
    /// Since when the state is wanted.
    pub since: Option<SqlTimestamp>,
    /// The status of its last full run.
    pub full_status: Option<String>,
    /// The digest of the state that it ran.
    pub full_state: Option<String>,
    /// When that run began.
    pub full_began: Option<SqlTimestamp>,
    /// When the server learned of it.
    pub full_learned: Option<SqlTimestamp>,
    /// That run.
    pub full_run: Option<Uuid>,
    /// Since when its memory is lost.
    pub memory_lost_at: Option<SqlTimestamp>,
    /// That its operating system needs a restart.
    pub restart_pending: Option<Value>,
    /// How many drift episodes are open.
    pub open_episodes: i32,
}

const NODES: &str =
    "select node.id, node.name, node.revoked_at, labels.value as labels, about.value as about, h.last_at, h.promised_at, h.clock_off_ms, d.server_down_secs, k.ends_at,
             stage.value as stage, groups.value as groups, w.state, w.settings, w.unusable, m.double_since, w.since, n.full_status, n.full_state, n.full_began,
             n.full_learned, n.full_run, restart.value as restart_pending, n.memory_lost_at, coalesce(n.open_episodes, 0) as open_episodes
         from node
         left join node_wanted w on w.node = node.id
         left join node_mark m on m.node = node.id
         left join node_now n on n.node = node.id
         left join fact stage on stage.node = node.id and stage.what = 'stage' and stage.until_at is null and stage.superseded_at is null
         left join fact groups on groups.node = node.id and groups.what = 'groups' and groups.until_at is null and groups.superseded_at is null
         left join fact labels on labels.node = node.id and labels.what = 'labels' and labels.until_at is null and labels.superseded_at is null
         left join fact about on about.node = node.id and about.what = 'about' and about.until_at is null and about.superseded_at is null
         left join fact restart on restart.node = node.id and restart.what = 'restart_pending' and restart.until_at is null and restart.superseded_at is null
         left join lateral (select last_at, promised_at, clock_off_ms from heard where heard.node = node.id order by id desc limit 1) h on true
         left join lateral (select coalesce(sum(extract(epoch from (until_at - greatest(from_at, h.last_at)))), 0)::bigint as server_down_secs
             from server_down where until_at > h.last_at) d on true
         left join lateral (select max(ends_at) as ends_at from node_key where node_key.node = node.id and node_key.revoked_at is null) k on true";

/// Returns the nodes that were not retired, by name; at most 1,000 after the name `after`.
pub async fn all(db: impl PgExecutor<'_>, after: &str) -> sqlx::Result<Vec<NodeRow>> {
    let sql = format!("{NODES} where node.retired_at is null and node.name > $1 order by node.name limit 1000");
    sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(after).fetch_all(db).await
}

/// Returns the node that has this name now.
pub async fn one(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<NodeRow>> {
    sqlx::query_as(sqlx::AssertSqlSafe(format!("{NODES} where node.retired_at is null and node.name = $1"))).bind(name).fetch_optional(db).await
}
