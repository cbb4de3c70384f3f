//! Concessions: permissions to deviate, the nodes that they cover, and the freezes that keep what they cover as it is.

use super::cursor::{Cursor, PageRange};
use super::narrowing::Narrowing;
use crate::clock::sql_now;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor, QueryBuilder};
use uuid::Uuid;

/// This long before it ends it is announced.
pub const ANNOUNCED_BEFORE: SignedDuration = SignedDuration::from_hours(7 * 24);

/// A concession that is asked for.
pub struct AskedRow<'a> {
    /// The addresses of the clauses, or patterns of them.
    pub clauses: &'a [String],
    /// The same as `like` has them.
    pub patterns: &'a [String],
    /// Which nodes it follows.
    pub filter: Option<&'a str>,
    /// Why.
    pub because: &'a str,
    /// Whether it covers what is unexamined or unknown.
    pub covers_unknown: bool,
    /// Who asks.
    pub asked_by: &'a str,
    /// Until when.
    pub until: Timestamp,
}

/// Stores a concession that is asked for, and returns its number: the next one, also if others were refused or previewed.
pub async fn add(db: &mut PgConnection, asked: &AskedRow<'_>) -> sqlx::Result<i64> {
    sqlx::query(include_str!("sql/concession/one_at_a_time.sql")).execute(&mut *db).await?;
    let no: i64 = sqlx::query_scalar(include_str!("sql/concession/number.sql")).fetch_one(&mut *db).await?;
    sqlx::query(include_str!("sql/concession/add.sql"))
        .bind(no)
        .bind(asked.clauses)
        .bind(asked.patterns)
        .bind(asked.filter)
        .bind(asked.because)
        .bind(asked.covers_unknown)
        .bind(asked.asked_by)
        .bind(sql_now())
        .bind(asked.until.to_sqlx())
        .execute(db)
        .await?;
    Ok(no)
}

/// Notes that a concession covers these nodes from now on, and no others. Returns how many came or went.
pub async fn cover(db: &mut PgConnection, no: i64, nodes: &Narrowing) -> sqlx::Result<u64> {
    let now = sql_now();
    let mut left = QueryBuilder::new("update concession_node set until_at = ");
    left.push_bind(now).push(" where until_at is null and concession = ").push_bind(no);
    left.push(" and node not in (select no from node where id in (");
    nodes.push_ids(&mut left);
    left.push("))");
    let mut came = QueryBuilder::new("insert into concession_node (concession, node, from_at) select ");
    came.push_bind(no).push(", no, ").push_bind(now);
    came.push(" from node where retired_at is null and id in (");
    nodes.push_ids(&mut came);
    came.push(") on conflict do nothing");
    let left = left.build().persistent(false).execute(&mut *db).await?.rows_affected();
    Ok(left + came.build().persistent(false).execute(db).await?.rows_affected())
}

/// Approves or refuses a concession. Returns whether it waited for that.
pub async fn decide(
    db: impl PgExecutor<'_>,
    no: i64,
    by: &str,
    is_approved: bool,
    because: Option<&str>,
) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/concession/decide.sql"))
        .bind(no)
        .bind(by)
        .bind(is_approved)
        .bind(because)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Withdraws or ends a concession, and the freeze with it. Returns whether it waited or was in force.
pub async fn end(db: &mut PgConnection, no: i64, by: &str, because: &str) -> sqlx::Result<bool> {
    let now = sql_now();
    let done = sqlx::query(include_str!("sql/concession/end.sql"))
        .bind(no)
        .bind(by)
        .bind(because)
        .bind(now)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/concession/end_freeze.sql"))
        .bind(no)
        .bind(now)
        .bind(by)
        .bind(because)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Sets a freeze of what a concession covers, until it ends.
pub async fn add_freeze(db: impl PgExecutor<'_>, no: i64, who: &str, because: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/concession/add_freeze.sql"))
        .bind(no)
        .bind(who)
        .bind(because)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Has the freeze of a concession be for the nodes that the concession covers now.
pub async fn follow_freeze(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/concession/follow_freeze.sql"))
        .bind(no)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the concessions that wait or are in force and follow a filter, each with it.
pub async fn followed(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(i64, String)>> {
    sqlx::query_as(include_str!("sql/concession/followed.sql")).bind(sql_now()).fetch_all(db).await
}

/// Returns how many concessions wait or are in force.
pub async fn count_open(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/concession/count_open.sql")).bind(sql_now()).fetch_one(db).await
}

/// A concession that ends soon.
#[derive(Debug, sqlx::FromRow)]
pub struct EndingRow {
    /// Its number.
    pub no: i64,
    /// The clauses.
    pub clauses: Vec<String>,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// Who asked for it.
    pub asked_by: String,
    /// Who approved it.
    pub decided_by: String,
}

/// Notes of those that end soon that this is announced, and returns them; each once.
pub async fn announce(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<EndingRow>> {
    let soon = crate::clock::now() + ANNOUNCED_BEFORE;
    sqlx::query_as(include_str!("sql/concession/announce.sql"))
        .bind(sql_now())
        .bind(soon.to_sqlx())
        .fetch_all(db)
        .await
}

/// A concession as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// Its number.
    pub no: i64,
    /// How far it is.
    pub status: String,
    /// The clauses, or patterns of them.
    pub clauses: Vec<String>,
    /// Those that fit no clause.
    pub unknown_clauses: Vec<String>,
    /// Which nodes it follows.
    pub filter: Option<String>,
    /// The nodes.
    pub nodes: Vec<String>,
    /// Why.
    pub because: String,
    /// Whether it covers what is unexamined or unknown.
    pub covers_unknown: bool,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked_at: SqlTimestamp,
    /// Until when.
    pub until_at: SqlTimestamp,
    /// Who approved or refused it.
    pub decided_by: Option<String>,
    /// When.
    pub decided_at: Option<SqlTimestamp>,
    /// Why.
    pub decided_because: Option<String>,
    /// Who withdrew or ended it.
    pub ended_by: Option<String>,
    /// When.
    pub ended_at: Option<SqlTimestamp>,
    /// Why.
    pub ended_because: Option<String>,
    /// Its freeze, if that is in force.
    pub freeze: Option<i64>,
    /// Number of nodes.
    pub of_nodes: i64,
    /// Number of clauses on them that it covers.
    pub of_clauses: i64,
    /// How many of these are not compliant.
    pub noncompliant: i64,
    /// On how many nodes.
    pub nodes_noncompliant: i64,
    /// How many of these a run would correct.
    pub to_correct: i64,
}

impl ListedRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.asked_at.to_jiff(), key: self.no.to_string() }
    }
}

/// Returns a page of the concessions that wait or are in force, or of all, the newest first.
pub async fn list(
    db: impl PgExecutor<'_>,
    range: &PageRange,
    also_over: bool,
) -> sqlx::Result<Vec<ListedRow>> {
    selected(db, range, None, also_over).await
}

/// Returns a concession.
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
        .bind(sqlx::query_as(include_str!("sql/concession/list.sql")))
        .bind(no)
        .bind(also_over)
        .bind(sql_now())
        .fetch_all(db)
        .await
}

/// A concession that covers a clause of a node.
#[derive(Debug, sqlx::FromRow)]
pub struct OfNodeRow {
    /// The clause.
    pub address: String,
    /// The number of the concession.
    pub no: i64,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// Why.
    pub because: String,
}

/// Returns the concessions that cover these clauses of a node now.
pub async fn of_node(
    db: impl PgExecutor<'_>,
    node: Uuid,
    addresses: &[String],
) -> sqlx::Result<Vec<OfNodeRow>> {
    sqlx::query_as(include_str!("sql/concession/of_node.sql"))
        .bind(node)
        .bind(sql_now())
        .bind(addresses)
        .fetch_all(db)
        .await
}

/// A concession that waits for approval, or ends soon.
#[derive(Debug, sqlx::FromRow)]
pub struct NoticedRow {
    /// Its number.
    pub no: i64,
    /// The clauses, or patterns of them.
    pub clauses: Vec<String>,
    /// Who asked for it.
    pub asked_by: String,
    /// Until when it is.
    pub until_at: SqlTimestamp,
    /// Whether it waits for approval.
    pub is_asked: bool,
    /// How many nodes it covers.
    pub nodes: i64,
}

/// Returns the concessions that wait for approval or end soon, at most 100.
pub async fn noticed(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<NoticedRow>> {
    sqlx::query_as(include_str!("sql/concession/noticed.sql"))
        .bind(sql_now())
        .bind((crate::clock::now() + ANNOUNCED_BEFORE).to_sqlx())
        .fetch_all(db)
        .await
}
