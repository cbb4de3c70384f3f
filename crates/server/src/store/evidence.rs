//! Evidence: what was asked for, its files in parts, and the chain of days.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use constans_core::evidence::{DayLink, Given};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_sqlx::{Date as SqlDate, Timestamp as SqlTimestamp, ToSqlx as _};
use rocket::futures::TryStreamExt as _;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Evidence that was asked for.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct EvidenceRow {
    /// Its number.
    pub no: i64,
    /// What it answers.
    pub question: Value,
    /// The formats besides CSV.
    pub formats: Vec<String>,
    /// Why.
    pub because: Option<String>,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked_at: SqlTimestamp,
    /// How it is.
    pub status: String,
    /// Why it failed, or who stopped or removed it.
    pub ended: Option<String>,
    /// When it was made, failed, was stopped or removed.
    pub ended_at: Option<SqlTimestamp>,
    /// Number of clauses on nodes.
    pub rows: Option<i64>,
    /// The size of its file in bytes.
    pub bytes: Option<i64>,
    /// The SHA-256 of its file in hexadecimal digits.
    pub sha256: Option<String>,
    /// The id of the key that signed it.
    pub key: Option<String>,
    /// Its figures.
    pub figures: Option<Value>,
    /// How many nodes are done.
    pub done: i64,
    /// Of how many.
    pub total: i64,
    /// Whether the work has begun.
    pub is_begun: bool,
}

impl EvidenceRow {
    /// Returns its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.asked_at.to_jiff(), key: self.no.to_string() }
    }
}

/// Adds evidence that is asked for; returns its number.
pub async fn add(
    db: impl PgExecutor<'_>,
    question: &Value,
    formats: &[&str],
    because: Option<&str>,
    asked_by: &str,
) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/evidence/add.sql"))
        .bind(question)
        .bind(formats)
        .bind(because)
        .bind(asked_by)
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Keeps others from asking for evidence until the transaction ends.
pub async fn lock(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/evidence/lock.sql")).execute(db).await.map(|_| ())
}

/// Returns how many wait or are being made, how many of them for a person, and how many bytes are kept.
pub async fn open_and_kept(db: impl PgExecutor<'_>, person: &str) -> sqlx::Result<(i64, i64, i64)> {
    sqlx::query_as(include_str!("sql/evidence/open_and_kept.sql")).bind(person).fetch_one(db).await
}

/// Returns a page of the evidence that was asked for, the newest first.
pub async fn list(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<EvidenceRow>> {
    listed(db, range.after.as_ref(), i64::from(range.size) + 1, None).await
}

/// Returns evidence by its number.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<EvidenceRow>> {
    Ok(listed(db, None, 1, Some(no)).await?.pop())
}

async fn listed(
    db: impl PgExecutor<'_>,
    after: Option<&Cursor>,
    most: i64,
    no: Option<i64>,
) -> sqlx::Result<Vec<EvidenceRow>> {
    sqlx::query_as(include_str!("sql/evidence/list.sql"))
        .bind(after.map(|after| after.at.to_sqlx()))
        .bind(after.map(|after| after.key.as_str()))
        .bind(most)
        .bind(no)
        .fetch_all(db)
        .await
}

/// What is kept of evidence that was made.
pub struct MadeRow<'a> {
    /// Number of clauses on nodes.
    pub rows: i64,
    /// The size of its file in bytes.
    pub bytes: i64,
    /// The SHA-256 of its file in hexadecimal digits.
    pub sha256: &'a str,
    /// The id of the key that signed it.
    pub key: &'a str,
    /// Its figures.
    pub figures: &'a Value,
}

/// Notes that evidence was made.
pub async fn made(db: impl PgExecutor<'_>, no: i64, made: &MadeRow<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/evidence/made.sql"))
        .bind(no)
        .bind(sql_now())
        .bind(made.rows)
        .bind(made.bytes)
        .bind(made.sha256)
        .bind(made.key)
        .bind(made.figures)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes that evidence failed, was stopped or removed, if it is how it must be. Returns whether it was.
pub async fn end(
    db: impl PgExecutor<'_>,
    no: i64,
    status: &str,
    because: &str,
    from: &[&str],
) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/evidence/end.sql"))
        .bind(no)
        .bind(status)
        .bind(because)
        .bind(sql_now())
        .bind(from)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Adds a part of the file of evidence.
pub async fn add_part(db: impl PgExecutor<'_>, no: i64, place: i32, bytes: &[u8]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/evidence/add_part.sql"))
        .bind(no)
        .bind(place)
        .bind(bytes)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns a part of the file of evidence; none after the last one.
pub async fn part(db: impl PgExecutor<'_>, no: i64, place: i32) -> sqlx::Result<Option<Vec<u8>>> {
    sqlx::query_scalar(include_str!("sql/evidence/part.sql")).bind(no).bind(place).fetch_optional(db).await
}

/// Drops the file of evidence.
pub async fn drop_parts(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/evidence/drop_parts.sql")).bind(no).execute(db).await.map(|_| ())
}

/// Returns the evidence that was made before a moment and is still kept.
pub async fn old(db: impl PgExecutor<'_>, before: Timestamp) -> sqlx::Result<Vec<i64>> {
    sqlx::query_scalar(include_str!("sql/evidence/old.sql")).bind(before.to_sqlx()).fetch_all(db).await
}

/// A clause of a state.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ClauseOfStateRow {
    /// Its id.
    pub id: i64,
    /// Its address.
    pub address: String,
    /// Its severity.
    pub severity: String,
    /// The controls that it satisfies.
    pub satisfies: Vec<String>,
    /// The baselines that it comes from.
    pub baselines: Vec<String>,
    /// The releases that it comes from.
    pub releases: Vec<String>,
    /// The digest of what is desired.
    pub wanted: String,
    /// The id of what is desired.
    pub desired: i32,
    /// Itself, as JSON.
    pub body: Value,
}

/// Returns the counted clauses of states.
pub async fn clauses(db: impl PgExecutor<'_>, states: &[i64]) -> sqlx::Result<Vec<ClauseOfStateRow>> {
    sqlx::query_as(include_str!("sql/evidence/clauses.sql")).bind(states).fetch_all(db).await
}

/// Returns what states desire.
pub async fn desired_of_states(
    db: impl PgExecutor<'_>,
    states: &[i64],
) -> sqlx::Result<HashMap<i64, HashSet<i32>>> {
    let rows: Vec<(i64, Vec<i32>)> =
        sqlx::query_as(include_str!("sql/evidence/desired_of_states.sql")).bind(states).fetch_all(db).await?;
    Ok(rows.into_iter().map(|(state, desired)| (state, desired.into_iter().collect())).collect())
}

/// Returns what changes gave nodes until a moment: the nodes that had the same changes and states together.
pub async fn histories(
    db: impl PgExecutor<'_>,
    until: Timestamp,
    nodes: &[i32],
) -> sqlx::Result<Vec<(Vec<i32>, Vec<Given>)>> {
    type Row = (Vec<i32>, Vec<i64>, Vec<Option<i64>>);
    let rows: Vec<Row> = sqlx::query_as(include_str!("sql/evidence/histories.sql"))
        .bind(until.to_sqlx())
        .bind(nodes)
        .fetch_all(db)
        .await?;
    let given = |(change, state)| Given { change, state };
    Ok(rows
        .into_iter()
        .map(|(nodes, changes, states)| (nodes, changes.into_iter().zip(states).map(given).collect()))
        .collect())
}

/// Returns what runs found of clauses that were not in line, by the numbers of their nodes. If a run is no longer kept, the last one
/// before a moment is taken: what stands is found again by each.
pub async fn found(
    db: impl PgExecutor<'_>,
    runs: &HashSet<(i32, Uuid)>,
    at: Timestamp,
) -> sqlx::Result<Vec<(i32, Uuid, Value)>> {
    let (nodes, runs): (Vec<i32>, Vec<Uuid>) = runs.iter().copied().unzip();
    sqlx::query_as(include_str!("sql/evidence/found.sql"))
        .bind(nodes)
        .bind(runs)
        .bind(at.to_sqlx())
        .fetch_all(db)
        .await
}

/// A concession that was in force at a moment.
#[derive(Debug, sqlx::FromRow)]
pub struct ConcessionRow {
    /// Its number.
    pub no: i64,
    /// The clauses that may deviate.
    pub clauses: Vec<String>,
    /// For nodes that match this filter.
    pub filter: Option<String>,
    /// Why.
    pub because: String,
    /// Who asked for it.
    pub asked_by: String,
    /// When.
    pub asked_at: SqlTimestamp,
    /// Who approved it.
    pub decided_by: String,
    /// When.
    pub decided_at: SqlTimestamp,
    /// Until when it was to be in force.
    pub until_at: SqlTimestamp,
    /// Number of nodes that it covered.
    pub nodes: i64,
}

/// Returns the concessions that were in force at a moment.
pub async fn concessions(db: impl PgExecutor<'_>, at: Timestamp) -> sqlx::Result<Vec<ConcessionRow>> {
    sqlx::query_as(include_str!("sql/evidence/concessions.sql")).bind(at.to_sqlx()).fetch_all(db).await
}

/// Returns the chain of days, the first one first.
pub async fn days(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<DayLink>> {
    let rows: Vec<(SqlDate, i64, String, String)> =
        sqlx::query_as(include_str!("sql/evidence/days.sql")).fetch_all(db).await?;
    let link = |(day, rows, root, digest): (SqlDate, i64, String, String)| DayLink {
        day: day.to_jiff(),
        rows: rows.unsigned_abs(),
        root,
        digest,
    };
    Ok(rows.into_iter().map(link).collect())
}

/// Takes the right to chain days until the transaction ends, unless another process has it.
pub async fn try_chain(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/evidence/day_lock.sql")).fetch_one(db).await
}

/// Adds a day to the chain.
pub async fn add_day(db: impl PgExecutor<'_>, link: &DayLink) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/evidence/add_day.sql"))
        .bind(link.day.to_sqlx())
        .bind(i64::try_from(link.rows).unwrap_or(i64::MAX))
        .bind(&link.root)
        .bind(&link.digest)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the first day on which something was learned; none if nothing was.
pub async fn first_learned(db: impl PgExecutor<'_>) -> sqlx::Result<Option<Date>> {
    let day: Option<SqlDate> =
        sqlx::query_scalar(include_str!("sql/evidence/first_learned.sql")).fetch_one(db).await?;
    Ok(day.map(SqlDate::to_jiff))
}

/// Returns whether a transaction is open since before so many seconds: what it learned may be of that time.
pub async fn may_still_learn(db: impl PgExecutor<'_>, secs: f64) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/evidence/may_still_learn.sql")).bind(secs).fetch_one(db).await
}

/// A row that was learned.
#[derive(Debug, sqlx::FromRow)]
pub struct LearnedRow {
    /// `opened`, `closed`, `examined`, `gap` or `doubt`.
    pub what: String,
    /// The node's id.
    pub node: String,
    /// The clause's address.
    pub address: String,
    /// The digest of what it is of.
    pub of: String,
    /// Why a clause was not as desired.
    pub cause: Option<String>,
    /// Since when.
    pub from_at: SqlTimestamp,
    /// Until when.
    pub until_at: Option<SqlTimestamp>,
    /// When it was learned.
    pub learned_at: SqlTimestamp,
    /// The run.
    pub run: Option<String>,
}

/// Has each row looked at that was learned in a period, in no order.
pub async fn learned(
    db: &mut PgConnection,
    from: Timestamp,
    until: Timestamp,
    mut look: impl FnMut(LearnedRow),
) -> sqlx::Result<()> {
    let mut rows = sqlx::query_as(include_str!("sql/evidence/learned.sql"))
        .bind(from.to_sqlx())
        .bind(until.to_sqlx())
        .fetch(db);
    while let Some(row) = rows.try_next().await? {
        look(row);
    }
    Ok(())
}
