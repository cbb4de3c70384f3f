//! Nodes and their keys.

use super::cursor::{Cursor, PageRange};
use super::{history, node_attribute};
use crate::clock::sql_now;
use constans_core::change::NodeDocument;
use constans_core::group::NodeOwn;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::{Value, json};
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Whether a node is admitted.
#[derive(Debug, sqlx::FromRow)]
pub struct AdmissionRow {
    /// Its name.
    pub name: String,
    /// Whether it or its key was revoked.
    pub is_revoked: bool,
    /// Whether it was retired.
    pub is_retired: bool,
}

/// Returns the admission of the node with this id and this key.
pub async fn by_key(db: impl PgExecutor<'_>, id: Uuid, spki: &[u8]) -> sqlx::Result<Option<AdmissionRow>> {
    sqlx::query_as(include_str!("sql/node/by_key.sql")).bind(id).bind(spki).fetch_optional(db).await
}

/// Returns the id of the node that has this name now.
pub async fn by_name(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Uuid>> {
    sqlx::query_scalar(include_str!("sql/node/by_name.sql")).bind(name).fetch_optional(db).await
}

/// Returns the same. It is locked until the transaction ends.
pub async fn locked_by_name(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Uuid>> {
    sqlx::query_scalar(include_str!("sql/node/locked_by_name.sql")).bind(name).fetch_optional(db).await
}

/// Returns the names of all nodes that have one of these names.
pub async fn names_in_use(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/node/names_in_use.sql")).bind(names).fetch_all(db).await
}

/// Adds a node.
pub async fn add(db: &mut PgConnection, id: Uuid, name: &str) -> sqlx::Result<()> {
    let now = sql_now();
    sqlx::query(include_str!("sql/node/add.sql")).bind(id).bind(name).bind(now).execute(&mut *db).await?;
    history::begin_life(db, &[id], now).await
}

/// Gives a known node its way back, with this key: it is no longer revoked, and its other keys are. Returns those.
pub async fn let_back(db: &mut PgConnection, id: Uuid, spki: &[u8]) -> sqlx::Result<Vec<Vec<u8>>> {
    sqlx::query(include_str!("sql/node/let_back_update_node.sql")).bind(id).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/node/let_back_update_node_now.sql")).bind(id).execute(&mut *db).await?;
    history::begin_life(&mut *db, &[id], sql_now()).await?;
    sqlx::query_scalar(include_str!("sql/node/let_back_update_node_key.sql"))
        .bind(id)
        .bind(sql_now())
        .bind(spki)
        .fetch_all(db)
        .await
}

/// Replaces the certificate of a key by a newer one.
pub async fn renew(
    db: impl PgExecutor<'_>,
    id: Uuid,
    spki: &[u8],
    certificate: &str,
    ends_at: Timestamp,
) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/node/renew.sql"))
        .bind(id)
        .bind(spki)
        .bind(certificate)
        .bind(ends_at.to_sqlx())
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Adds a key with its certificate.
pub async fn add_key(
    db: impl PgExecutor<'_>,
    id: Uuid,
    spki: &[u8],
    certificate: &str,
    ends_at: Timestamp,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/node/add_key.sql"))
        .bind(spki)
        .bind(id)
        .bind(certificate)
        .bind(ends_at.to_sqlx())
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the certificate of a key, with the node's id and name, and its end.
pub async fn certificate(
    db: impl PgExecutor<'_>,
    spki: &[u8],
) -> sqlx::Result<Option<(Uuid, String, String, SqlTimestamp)>> {
    sqlx::query_as(include_str!("sql/node/certificate.sql")).bind(spki).fetch_optional(db).await
}

/// A key that is known.
#[derive(Debug, sqlx::FromRow)]
pub struct KeyRow {
    /// The node.
    pub node: Uuid,
    /// Its name.
    pub name: String,
    /// Whether the node was revoked.
    pub is_revoked: bool,
    /// Whether this key was revoked, since another machine is the node.
    pub is_key_revoked: bool,
    /// Whether the node was retired.
    pub is_retired: bool,
    /// Whether its certificate ended.
    pub has_ended: bool,
}

/// Returns what is known of a key.
pub async fn of_key(db: impl PgExecutor<'_>, spki: &[u8]) -> sqlx::Result<Option<KeyRow>> {
    sqlx::query_as(include_str!("sql/node/of_key.sql")).bind(spki).bind(sql_now()).fetch_optional(db).await
}

/// Refuses a node from now on. Returns whether it was not refused before.
pub async fn revoke(db: &mut PgConnection, id: Uuid) -> sqlx::Result<bool> {
    let now = sql_now();
    let done = sqlx::query(include_str!("sql/node/revoke.sql")).bind(id).bind(now).execute(&mut *db).await?;
    history::end_life(db, &[id], now).await?;
    Ok(done.rows_affected() > 0)
}

/// Returns name, labels and what is given to it by itself, of those of these nodes that are not retired.
pub async fn documents(db: impl PgExecutor<'_>, nodes: &[Uuid]) -> sqlx::Result<Vec<(Uuid, NodeDocument)>> {
    let rows: Vec<DocumentRow> =
        sqlx::query_as(include_str!("sql/node/documents.sql")).bind(nodes).fetch_all(db).await?;
    Ok(rows.into_iter().map(DocumentRow::read).collect())
}

/// Returns what persons said of the nodes that have values of single properties by themselves for a time.
pub async fn with_ending_values(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(Uuid, NodeDocument)>> {
    let rows: Vec<DocumentRow> =
        sqlx::query_as(include_str!("sql/node/with_ending_values.sql")).fetch_all(db).await?;
    Ok(rows.into_iter().map(DocumentRow::read).collect())
}

#[derive(sqlx::FromRow)]
struct DocumentRow {
    id: Uuid,
    name: String,
    labels: Json<BTreeMap<String, String>>,
    own: Json<NodeOwn>,
}

impl DocumentRow {
    fn read(self) -> (Uuid, NodeDocument) {
        (self.id, NodeDocument { name: self.name, labels: self.labels.0, own: self.own.0 })
    }
}

/// Returns the ids of those of these nodes that are not retired, by name.
pub async fn ids(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<BTreeMap<String, Uuid>> {
    let rows: Vec<(String, Uuid)> =
        sqlx::query_as(include_str!("sql/node/ids.sql")).bind(names).fetch_all(db).await?;
    Ok(rows.into_iter().collect())
}

/// Sets what a node is given by itself.
pub async fn set_own(db: impl PgExecutor<'_>, id: Uuid, own: &NodeOwn) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/node/set_own.sql")).bind(id).bind(Json(own)).execute(db).await.map(|_| ())
}

/// Returns the first of some nodes, by name, that belongs to none of these groups.
pub async fn outside_of_groups(
    db: impl PgExecutor<'_>,
    nodes: &[Uuid],
    groups: &[String],
) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(include_str!("sql/node/outside_of_groups.sql"))
        .bind(nodes)
        .bind(groups)
        .fetch_optional(db)
        .await
}

/// Notes whether the machine of a node is that of a server. Returns whether that is new.
pub async fn set_hosts_server(db: impl PgExecutor<'_>, id: Uuid, hosts_server: bool) -> sqlx::Result<bool> {
    let set = sqlx::query(include_str!("sql/node/set_hosts_server.sql")).bind(id).bind(hosts_server);
    Ok(set.execute(db).await?.rows_affected() > 0)
}

/// Sets names and labels of nodes, and what each is given by itself.
pub async fn edit(db: &mut PgConnection, edits: &[(Uuid, NodeDocument)]) -> sqlx::Result<()> {
    let renamed: Vec<(Uuid, Value)> = edits.iter().map(|(id, node)| (*id, json!(node.name))).collect();
    let labelled: Vec<(Uuid, Value)> = edits.iter().map(|(id, node)| (*id, json!(node.labels))).collect();
    for (what, values) in [("name", &renamed), ("labels", &labelled)] {
        node_attribute::set_all(
            &mut *db,
            what,
            &values.iter().map(|(id, value)| (*id, value)).collect::<Vec<_>>(),
        )
        .await?;
    }
    let (nodes, names): (Vec<Uuid>, Vec<&str>) =
        edits.iter().map(|(id, node)| (*id, node.name.as_str())).unzip();
    for copy in [
        "update node set name = new.name from unnest($1::uuid[], $2::text[]) as new (id, name) where node.id = new.id and node.name <> new.name",
        "update node_exception e set name = new.name from unnest($1::uuid[], $2::text[]) as new (id, name) where e.node = new.id and e.name <> new.name",
    ] {
        sqlx::query(copy).bind(&nodes).bind(&names).execute(&mut *db).await?;
    }
    let owned: Vec<Json<&NodeOwn>> = edits.iter().map(|(_, node)| Json(&node.own)).collect();
    sqlx::query(include_str!("sql/node/edit_own.sql")).bind(&nodes).bind(&owned).execute(db).await?;
    Ok(())
}

/// Retires nodes by a change: they are no longer admitted, listed or counted, and their open drift ends.
pub async fn retire(db: &mut PgConnection, nodes: &[Uuid], change: i64) -> sqlx::Result<()> {
    let now = sql_now();
    sqlx::query(include_str!("sql/node/retire_update_node.sql"))
        .bind(nodes)
        .bind(now)
        .bind(change)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/node/retire_update_episode.sql"))
        .bind(nodes)
        .bind(now)
        .execute(&mut *db)
        .await?;
    history::end_life(&mut *db, nodes, now).await?;
    for what in ["node_exception", "node_now"] {
        sqlx::query(AssertSqlSafe(format!("delete from {what} where node = any($1)")))
            .bind(nodes)
            .execute(&mut *db)
            .await?;
    }
    Ok(())
}

/// A node that was retired.
#[derive(Debug, sqlx::FromRow)]
pub struct RetiredRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: Value,
    /// The SHA-256 of its newest key.
    pub spki_digest: Option<Vec<u8>>,
    /// Since when it was of the fleet.
    pub joined_at: SqlTimestamp,
    /// Since when it no longer is.
    pub retired_at: SqlTimestamp,
    /// The change that retired it.
    pub change: Option<i64>,
    /// Who asked for that.
    pub who: Option<String>,
    /// Why.
    pub because: Option<String>,
    /// Whether another node has its name now.
    pub is_name_in_use: bool,
}

impl RetiredRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.retired_at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of the retired nodes whose names are like this, as `like` has it; those retired last first.
pub async fn retired(
    db: impl PgExecutor<'_>,
    name: &str,
    range: &PageRange,
) -> sqlx::Result<Vec<RetiredRow>> {
    range.bind(sqlx::query_as(include_str!("sql/node/retired.sql"))).bind(name).fetch_all(db).await
}

/// Returns the name of a retired node. It is locked until the transaction ends.
pub async fn name_of_retired(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(include_str!("sql/node/name_of_retired.sql")).bind(id).fetch_optional(db).await
}

/// Has a retired node be of the fleet again, under this name; its keys are admitted as before, unless it was revoked. Returns whether it
/// was; none if it was not retired.
pub async fn bring_back(db: &mut PgConnection, id: Uuid, name: &str) -> sqlx::Result<Option<bool>> {
    let is_revoked: Option<bool> = sqlx::query_scalar(include_str!("sql/node/bring_back_update_node.sql"))
        .bind(id)
        .bind(name)
        .fetch_optional(&mut *db)
        .await?;
    let Some(is_revoked) = is_revoked else { return Ok(None) };
    sqlx::query(include_str!("sql/node/bring_back_insert_node_now.sql")).bind(id).execute(&mut *db).await?;
    if !is_revoked {
        history::begin_life(&mut *db, &[id], sql_now()).await?;
    }
    Ok(Some(is_revoked))
}
