//! Inspections of nodes, and what they told.

use crate::clock::sql_now;
use constans_wire::inspection::InspectionReport;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::PgExecutor;
use uuid::Uuid;

/// An inspection to be asked for.
pub struct NewInspection<'a> {
    /// The node.
    pub node: Uuid,
    /// The kind of the thing.
    pub kind: &'a str,
    /// Its name.
    pub name: Option<&'a str>,
    /// Who asks.
    pub who: &'a str,
    /// Why.
    pub because: &'a str,
    /// Until when it is offered.
    pub ends_at: Timestamp,
}

/// Adds an inspection and returns its number.
pub async fn add(db: impl PgExecutor<'_>, new: &NewInspection<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/inspection/add.sql"))
        .bind(new.node)
        .bind(new.kind)
        .bind(new.name)
        .bind(new.who)
        .bind(new.because)
        .bind(sql_now())
        .bind(new.ends_at.to_sqlx())
        .fetch_one(db)
        .await
}

/// Returns the oldest inspections that a node is to do, at most 20: number, kind and name of each.
pub async fn offers(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<(i64, String, Option<String>)>> {
    sqlx::query_as(include_str!("sql/inspection/offers.sql")).bind(node).bind(sql_now()).fetch_all(db).await
}

/// Returns how many inspections of a person wait.
pub async fn count_open(db: impl PgExecutor<'_>, who: &str) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/inspection/count_open.sql"))
        .bind(who)
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Stores what a node told. Returns whether it was asked, and had not told yet.
pub async fn report(
    db: impl PgExecutor<'_>,
    no: i64,
    node: Uuid,
    report: &InspectionReport,
) -> sqlx::Result<bool> {
    let text = serde_json::to_string(report).map_err(|error| sqlx::Error::Encode(error.into()))?;
    let stored = sqlx::query(include_str!("sql/inspection/report.sql"))
        .bind(no)
        .bind(node)
        .bind(sql_now())
        .bind(text)
        .execute(db)
        .await?;
    Ok(stored.rows_affected() > 0)
}

/// An inspection.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct InspectionRow {
    pub no: i64,
    pub node: Uuid,
    pub node_name: String,
    pub kind: String,
    pub name: Option<String>,
    pub who: String,
    pub because: String,
    pub asked_at: SqlTimestamp,
    pub ends_at: SqlTimestamp,
    pub was_waiting: bool,
    pub told_at: Option<SqlTimestamp>,
    pub report: Option<Value>,
    pub promised_at: Option<SqlTimestamp>,
}

/// Returns an inspection.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<InspectionRow>> {
    sqlx::query_as(include_str!("sql/inspection/by_no.sql")).bind(no).fetch_optional(db).await
}
