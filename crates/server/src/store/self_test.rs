//! Self-tests of nodes, step by step.

use crate::clock::sql_now;
use constans_wire::self_test::SelfTestReport;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::PgExecutor;
use sqlx::types::Json;
use uuid::Uuid;

/// A self-test to be asked for.
pub struct NewSelfTest<'a> {
    /// The node.
    pub node: Uuid,
    /// Who asks.
    pub who: &'a str,
    /// Until when it is offered.
    pub ends_at: Timestamp,
    /// What its content says.
    pub nonce: &'a str,
    /// The digest of its state.
    pub state: &'a str,
}

/// Adds a self-test and returns its number.
pub async fn add(db: impl PgExecutor<'_>, new: &NewSelfTest<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/self_test/add.sql"))
        .bind(new.node)
        .bind(new.who)
        .bind(sql_now())
        .bind(new.ends_at.to_sqlx())
        .bind(new.nonce)
        .bind(new.state)
        .fetch_one(db)
        .await
}

/// Returns the newest self-test that a node is to do, with the digest of its state, and notes that it is offered.
pub async fn offer(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<(i64, String)>> {
    sqlx::query_as(include_str!("sql/self_test/offer.sql"))
        .bind(node)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Returns what the content of a self-test of this node says, as long as it is to be done.
pub async fn nonce(db: impl PgExecutor<'_>, no: i64, node: Uuid) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(include_str!("sql/self_test/nonce.sql"))
        .bind(no)
        .bind(node)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Notes that the node fetched the content.
pub async fn note_fetched(db: impl PgExecutor<'_>, no: i64, node: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/self_test/fetched.sql"))
        .bind(no)
        .bind(node)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Stores the report of a node. Returns whether it was to be done.
pub async fn report(
    db: impl PgExecutor<'_>,
    no: i64,
    node: Uuid,
    report: &SelfTestReport,
) -> sqlx::Result<bool> {
    let stored = sqlx::query(include_str!("sql/self_test/report.sql"))
        .bind(no)
        .bind(node)
        .bind(sql_now())
        .bind(Json(report))
        .execute(db)
        .await?;
    Ok(stored.rows_affected() > 0)
}

/// A self-test.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct SelfTestRow {
    pub no: i64,
    pub node: String,
    pub who: String,
    pub asked_at: SqlTimestamp,
    pub ends_at: SqlTimestamp,
    pub was_waiting: bool,
    pub offered_at: Option<SqlTimestamp>,
    pub fetched_at: Option<SqlTimestamp>,
    pub reported_at: Option<SqlTimestamp>,
    pub report: Option<Value>,
    pub promised_at: Option<SqlTimestamp>,
}

/// Returns a self-test.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<SelfTestRow>> {
    sqlx::query_as(include_str!("sql/self_test/by_no.sql")).bind(no).fetch_optional(db).await
}
