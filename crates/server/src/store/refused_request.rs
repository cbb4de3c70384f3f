//! Requests that were refused.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::PgConnection;
use uuid::Uuid;

/// This many rows are kept, those that were last met.
const MAX_ROWS: i64 = 10_000;
/// After this many days without another one a row goes.
const KEPT_DAYS: i32 = 90;

/// Who was refused what, from where.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Refused {
    /// The person, if it is known who that is.
    pub person: Option<String>,
    /// The node, if it showed a certificate.
    pub node: Option<Uuid>,
    /// Method and address as the interface names it.
    pub what: String,
    /// The address, or the network (IPv6).
    pub from_where: String,
    /// How it was answered.
    pub status: u16,
}

/// Counts one or more refusals that are alike.
pub async fn add(db: &mut PgConnection, refused: &Refused, times: i64) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/refused_request/add.sql"))
        .bind(refused.person.as_deref().unwrap_or(""))
        .bind(refused.node)
        .bind(&refused.what)
        .bind(&refused.from_where)
        .bind(i16::try_from(refused.status).unwrap_or(i16::MAX))
        .bind(sql_now())
        .bind(times)
        .execute(db)
        .await
        .map(|_| ())
}

/// Forgets old rows, and the oldest ones of too many.
pub async fn forget_old(db: &mut PgConnection) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/refused_request/forget_old.sql"))
        .bind(sql_now())
        .bind(KEPT_DAYS)
        .bind(MAX_ROWS)
        .execute(db)
        .await
        .map(|_| ())
}

/// A row with the name of its node.
#[derive(Debug, sqlx::FromRow)]
pub struct RefusedRow {
    /// The person; empty: nobody that is known.
    pub person: String,
    /// The node's name.
    pub node: Option<String>,
    /// What was asked.
    pub what: String,
    /// From where.
    pub from_where: String,
    /// How it was answered.
    pub status: i16,
    /// When first.
    pub first_at: SqlTimestamp,
    /// When last.
    pub last_at: SqlTimestamp,
    /// How often.
    pub times: i64,
    /// Its key among rows of one moment.
    pub key: String,
}

impl RefusedRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.last_at.to_jiff(), key: self.key.clone() }
    }
}

/// Returns a page of the refused requests, those that were last met first.
pub async fn latest(db: impl sqlx::PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<RefusedRow>> {
    range.bind(sqlx::query_as(include_str!("sql/refused_request/latest.sql"))).fetch_all(db).await
}
