//! Freezes: set, listed, ended, and what each node is given of them.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor};
use std::collections::BTreeSet;
use uuid::Uuid;

/// A freeze that is in force.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct InForceRow {
    /// Its number.
    pub no: i64,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// Why it was set.
    pub because: String,
    /// The clauses that it is for; none for all.
    pub clauses: Vec<String>,
    /// Whether it is for all nodes.
    pub is_for_all: bool,
    /// Those of the nodes that were asked for that it is for otherwise.
    pub nodes: Vec<Uuid>,
}

impl InForceRow {
    /// Returns whether it is for this node, one of those that were asked for.
    pub fn is_for(&self, node: Uuid) -> bool {
        self.is_for_all || self.nodes.contains(&node)
    }
}

/// Returns the freezes that are in force for some of these nodes.
pub async fn in_force(db: impl PgExecutor<'_>, nodes: &[Uuid]) -> sqlx::Result<Vec<InForceRow>> {
    sqlx::query_as(include_str!("sql/freeze/in_force.sql")).bind(sql_now()).bind(nodes).fetch_all(db).await
}

/// Returns the generation of the freezes as they are: the epoch, also that of a recovery that goes on, and the newest counter.
pub async fn generation(db: impl PgExecutor<'_>) -> sqlx::Result<(i64, i64)> {
    sqlx::query_as(include_str!("sql/freeze/generation.sql")).fetch_one(db).await
}

/// A freeze to be set.
pub struct NewFreeze<'a> {
    /// Who sets it.
    pub who: &'a str,
    /// Why.
    pub because: &'a str,
    /// The nodes; none for all.
    pub nodes: &'a [Uuid],
    /// The clauses; none for all.
    pub clauses: &'a BTreeSet<String>,
    /// Until when it lasts.
    pub until: Timestamp,
}

/// Sets a freeze and returns its number.
pub async fn add(db: &mut PgConnection, new: &NewFreeze<'_>) -> sqlx::Result<i64> {
    let no = sqlx::query_scalar(include_str!("sql/freeze/add_insert_change_freeze.sql"))
        .bind(new.who)
        .bind(new.because)
        .bind(new.nodes.is_empty())
        .bind(new.clauses.iter().map(String::as_str).collect::<Vec<_>>())
        .bind(sql_now())
        .bind(new.until.to_sqlx())
        .fetch_one(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/freeze/add_insert_freeze_node.sql"))
        .bind(no)
        .bind(new.nodes)
        .execute(db)
        .await?;
    Ok(no)
}

/// Ends a freeze before its hour. Returns whether it was in force.
pub async fn end(db: impl PgExecutor<'_>, no: i64, by: &str, because: Option<&str>) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/freeze/end.sql"))
        .bind(no)
        .bind(sql_now())
        .bind(by)
        .bind(because)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// A freeze as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// Its number.
    pub no: i64,
    /// Who set it.
    pub who: String,
    /// Why.
    pub because: String,
    /// When it was set.
    pub set_at: SqlTimestamp,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// When it was ended.
    pub ended_at: Option<SqlTimestamp>,
    /// By whom.
    pub ended_by: Option<String>,
    /// Whether it is for all nodes.
    pub is_for_all: bool,
    /// The nodes that it is for otherwise.
    pub nodes: Vec<String>,
    /// The clauses that it is for; none for all.
    pub clauses: Vec<String>,
    /// For how many nodes it is.
    pub of_nodes: i64,
    /// How many of them hold it.
    pub held_by: i64,
    /// When the last node that does not hold it checks in next; none if one is not expected.
    pub last_by: Option<SqlTimestamp>,
}

impl ListedRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.set_at.to_jiff(), key: self.no.to_string() }
    }
}

/// Returns a page of the freezes that are in force, or also of those that are over, the newest first.
pub async fn list(
    db: impl PgExecutor<'_>,
    range: &PageRange,
    also_over: bool,
) -> sqlx::Result<Vec<ListedRow>> {
    selected(db, range, None, also_over).await
}

/// Returns a freeze.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<ListedRow>> {
    selected(db, &PageRange { after: None, size: 1 }, Some(no), true)
        .await
        .map(|rows| rows.into_iter().next())
}

async fn selected(
    db: impl PgExecutor<'_>,
    range: &PageRange,
    no: Option<i64>,
    also_over: bool,
) -> sqlx::Result<Vec<ListedRow>> {
    range
        .bind(sqlx::query_as(include_str!("sql/freeze/list.sql")))
        .bind(no)
        .bind(also_over)
        .bind(sql_now())
        .fetch_all(db)
        .await
}

/// Returns how many freezes are in force.
pub async fn count(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/freeze/count.sql")).bind(sql_now()).fetch_one(db).await
}

/// Returns those of these addresses that no clause of a state has, patterns as `like` has them.
pub async fn unknown(
    db: impl PgExecutor<'_>,
    clauses: &[String],
    patterns: &[String],
) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/freeze/unknown.sql"))
        .bind(clauses)
        .bind(patterns)
        .fetch_all(db)
        .await
}

/// A freeze that a node holds and this database does not know.
#[derive(Debug, sqlx::FromRow)]
pub struct ForgottenRow {
    /// How many nodes hold it.
    pub nodes: i64,
    /// One of them.
    pub node: String,
    /// Itself.
    pub held: serde_json::Value,
}

/// Returns the freezes that nodes hold and that this database does not know as they hold them: it was restored from before they
/// were set. At most 100.
pub async fn forgotten(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<ForgottenRow>> {
    sqlx::query_as(include_str!("sql/freeze/forgotten.sql")).fetch_all(db).await
}
