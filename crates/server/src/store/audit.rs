//! The audit trail: the events that someone did, and when.

use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};

/// Adds an entry. In the transaction of what was done: both are there or neither.
pub async fn add(
    db: impl PgExecutor<'_>,
    who: &str,
    did: &str,
    subject: &str,
    detail: &Value,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/audit/add.sql"))
        .bind(who)
        .bind(did)
        .bind(subject)
        .bind(detail)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// An entry, with its digest once it is chained.
#[derive(Debug, sqlx::FromRow)]
pub struct EntryRow {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: SqlTimestamp,
    /// Who did it.
    pub who: String,
    /// What was done.
    pub did: String,
    /// To what.
    pub subject: String,
    /// More of it.
    pub detail: Value,
    /// Its digest.
    pub digest: Option<String>,
}

/// Returns entries before a number, the newest first; at most so many.
pub async fn list(
    db: impl PgExecutor<'_>,
    before: i64,
    who: Option<&str>,
    subject: Option<&str>,
    most: i64,
) -> sqlx::Result<Vec<EntryRow>> {
    sqlx::query_as(include_str!("sql/audit/list.sql"))
        .bind(before)
        .bind(who)
        .bind(subject)
        .bind(most)
        .fetch_all(db)
        .await
}

/// Takes the right to chain until the transaction ends, unless another process has it.
pub async fn try_chain(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/audit/try_chain.sql")).fetch_one(db).await
}

/// Returns the last place of the chain with its digest.
pub async fn last(db: impl PgExecutor<'_>) -> sqlx::Result<Option<(i64, String)>> {
    sqlx::query_as(include_str!("sql/audit/last.sql")).fetch_optional(db).await
}

/// Returns the next entries to be chained, in the order in which they were committed: those before which no transaction is open
/// any more.
pub async fn unchained(db: &mut PgConnection) -> sqlx::Result<Vec<EntryRow>> {
    sqlx::query_as(include_str!("sql/audit/unchained.sql")).fetch_all(db).await
}

/// Adds links to the chain, from this place on.
pub async fn chain(db: impl PgExecutor<'_>, from: i64, links: &[(i64, String)]) -> sqlx::Result<()> {
    let (entries, digests): (Vec<i64>, Vec<&str>) =
        links.iter().map(|(entry, digest)| (*entry, digest.as_str())).unzip();
    sqlx::query(include_str!("sql/audit/chain.sql"))
        .bind(from)
        .bind(entries)
        .bind(digests)
        .execute(db)
        .await
        .map(|_| ())
}

/// A link of the chain; what it was made of is missing if someone removed the entry.
#[derive(Debug, sqlx::FromRow)]
pub struct LinkRow {
    /// Its place.
    pub place: i64,
    /// Its digest.
    pub link: String,
    /// The number of its entry.
    pub entry: i64,
    /// When it was done.
    pub at: Option<SqlTimestamp>,
    /// Who did it.
    pub who: Option<String>,
    /// What was done.
    pub did: Option<String>,
    /// To what.
    pub subject: Option<String>,
    /// More of it.
    pub detail: Option<Value>,
}

/// Returns links after a place, in their order; at most 1,000.
pub async fn links(db: impl PgExecutor<'_>, after: i64) -> sqlx::Result<Vec<LinkRow>> {
    sqlx::query_as(include_str!("sql/audit/links.sql")).bind(after).fetch_all(db).await
}

/// Returns how many entries are not chained yet.
pub async fn count_unchained(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/audit/count_unchained.sql")).fetch_one(db).await
}
