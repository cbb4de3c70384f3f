//! Wakes: nodes that are asked to check in at once, and the requests that are held for that.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor};
use std::collections::HashMap;
use uuid::Uuid;

/// The channel on which the number of a wake is told to every process.
pub const WAKES: &str = "constans_wakes";

/// A request that a node wants to be held.
#[derive(Debug, Clone)]
pub struct NewHold {
    /// The node.
    pub node: Uuid,
    /// The digest of the caller's key.
    pub spki: Vec<u8>,
    /// When the request is answered at the latest.
    pub until: Timestamp,
}

/// Notes that requests are held, each of another node, and returns the newest wake of each node that is admitted.
pub async fn register(db: impl PgExecutor<'_>, all: &[NewHold]) -> sqlx::Result<HashMap<Uuid, i64>> {
    let rows: Vec<(Uuid, i64)> = sqlx::query_as(include_str!("sql/wake/register.sql"))
        .bind(all.iter().map(|new| new.node).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.spki.as_slice()).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.until.to_sqlx()).collect::<Vec<_>>())
        .fetch_all(db)
        .await?;
    Ok(rows.into_iter().collect())
}

/// Notes that requests are held no more: each of a node, with the moment that it was registered with. Who registered another one
/// since stays.
pub async fn leave(db: impl PgExecutor<'_>, gone: &[(Uuid, Timestamp)]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/wake/leave.sql"))
        .bind(gone.iter().map(|(node, _)| *node).collect::<Vec<_>>())
        .bind(gone.iter().map(|(_, until)| until.to_sqlx()).collect::<Vec<_>>())
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the newest wake of each of these nodes; only those whose newest is this one, if one is given.
pub async fn of_waiting(
    db: impl PgExecutor<'_>,
    nodes: &[Uuid],
    wake: Option<i64>,
) -> sqlx::Result<Vec<(Uuid, i64)>> {
    sqlx::query_as(include_str!("sql/wake/of_waiting.sql")).bind(nodes).bind(wake).fetch_all(db).await
}

/// Asks nodes to check in at once, those of them that are of the fleet and not revoked, and returns the number of the wake. Every process is told when the
/// transaction ends; wakes are few.
pub async fn add(
    db: &mut PgConnection,
    who: &str,
    because: Option<&str>,
    nodes: &[Uuid],
) -> sqlx::Result<i64> {
    let no: i64 = sqlx::query_scalar(include_str!("sql/wake/add.sql"))
        .bind(sql_now())
        .bind(who)
        .bind(because)
        .fetch_one(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/wake/add_nodes.sql"))
        .bind(no)
        .bind(nodes)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/wake/set_newest.sql")).bind(no).execute(&mut *db).await?;
    super::notice::tell_on(db, WAKES, &no.to_string()).await?;
    Ok(no)
}

/// Returns whether a request of a node is held.
pub async fn waits(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/wake/waits.sql")).bind(node).bind(sql_now()).fetch_one(db).await
}

/// Returns how many wakes there were since a moment, and how many nodes they woke in all.
pub async fn count_since(db: impl PgExecutor<'_>, since: Timestamp) -> sqlx::Result<(i64, i64)> {
    sqlx::query_as(include_str!("sql/wake/recent.sql")).bind(since.to_sqlx()).fetch_one(db).await
}

/// Notes that a node checked in: it answered every wake that it had not yet. Returns the newest of them all; 0 before the first.
pub async fn answer(db: &mut PgConnection, node: Uuid, at: Timestamp) -> sqlx::Result<i64> {
    sqlx::query(include_str!("sql/wake/answered.sql"))
        .bind(node)
        .bind(at.to_sqlx())
        .execute(&mut *db)
        .await?;
    let newest: Option<i64> =
        sqlx::query_scalar(include_str!("sql/wake/newest_of.sql")).bind(node).fetch_optional(db).await?;
    Ok(newest.unwrap_or(0))
}

/// Returns the nodes that a change alters and that did not take it yet.
pub async fn without_change(db: impl PgExecutor<'_>, change: i64) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/wake/of_change.sql")).bind(change).fetch_all(db).await
}

/// A wake, and what came of it so far.
#[derive(Debug, sqlx::FromRow)]
pub struct WakeRow {
    /// Its number.
    pub no: i64,
    /// When the nodes were asked.
    pub at: SqlTimestamp,
    /// By whom.
    pub who: String,
    /// Why.
    pub because: Option<String>,
    /// How many nodes it is for.
    pub nodes: i64,
    /// How many of them checked in after it.
    pub answered: i64,
    /// Of how many the server held a request.
    pub waiting: i64,
    /// How many have what is wanted of them now.
    pub up_to_date: i64,
    /// After how many milliseconds half of those who checked in had done so.
    pub median_ms: Option<i64>,
    /// After how many the last one did.
    pub slowest_ms: Option<i64>,
    /// When the last of the others checks in next, as far as they promised.
    pub last_by: Option<SqlTimestamp>,
}

/// Returns a wake.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<WakeRow>> {
    sqlx::query_as(include_str!("sql/wake/by_no.sql")).bind(no).fetch_optional(db).await
}

/// A node of a wake.
#[derive(Debug, sqlx::FromRow)]
pub struct WokenRow {
    /// Its name.
    pub name: String,
    /// Whether the server held a request of it.
    pub was_waiting: bool,
    /// When it checked in after the wake.
    pub answered_at: Option<SqlTimestamp>,
    /// When it was asked.
    pub woken_at: SqlTimestamp,
    /// Its last check-in.
    pub heard_at: Option<SqlTimestamp>,
    /// When it promised to check in next.
    pub promised_at: Option<SqlTimestamp>,
    /// Whether it has what is wanted of it now.
    pub is_up_to_date: bool,
}

impl WokenRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: Timestamp::UNIX_EPOCH, key: self.name.clone() }
    }
}

/// Returns a page of the nodes of a wake, by name.
pub async fn nodes(db: impl PgExecutor<'_>, no: i64, range: &PageRange) -> sqlx::Result<Vec<WokenRow>> {
    range.bind(sqlx::query_as(include_str!("sql/wake/nodes.sql"))).bind(no).fetch_all(db).await
}
