//! Drills, and what nodes told of them.

use crate::clock::sql_now;
use constans_core::address::ClauseAddress;
use constans_core::run::DRILL_LABEL;
use constans_wire::drill::{DrillReport, NewDrill};
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::PgExecutor;
use std::collections::BTreeSet;
use uuid::Uuid;

/// Returns whether the clauses of a node may be broken, by its label. The node is locked until the transaction ends.
pub async fn is_allowed(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<bool> {
    let (label, value) = DRILL_LABEL;
    let is_allowed: Option<bool> = sqlx::query_scalar(include_str!("sql/drill/is_allowed.sql"))
        .bind(node)
        .bind(label)
        .bind(value)
        .fetch_one(db)
        .await?;
    Ok(is_allowed == Some(true))
}

/// Returns a drill of a node that goes on, or waits for it.
pub async fn open_of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<i64>> {
    sqlx::query_scalar(include_str!("sql/drill/open_of.sql"))
        .bind(node)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Adds a drill and returns its number.
pub async fn add(
    db: impl PgExecutor<'_>,
    node: Uuid,
    new: &NewDrill,
    who: &str,
    offered_until: Timestamp,
) -> sqlx::Result<i64> {
    let clauses: Vec<&str> = new.clauses.iter().map(ClauseAddress::as_str).collect();
    sqlx::query_scalar(include_str!("sql/drill/add.sql"))
        .bind(node)
        .bind(clauses)
        .bind(i64::try_from(new.for_secs).unwrap_or(i64::MAX))
        .bind(new.now)
        .bind(who)
        .bind(&new.because)
        .bind(sql_now())
        .bind(offered_until.to_sqlx())
        .fetch_one(db)
        .await
}

/// A drill that is offered to its node.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct OfferRow {
    pub no: i64,
    pub clauses: Vec<String>,
    pub for_secs: i64,
    pub at_once: bool,
    pub who: String,
    pub because: String,
}

/// Returns the drill that a node is to do.
pub async fn offer(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<OfferRow>> {
    sqlx::query_as(include_str!("sql/drill/offer.sql")).bind(node).bind(sql_now()).fetch_optional(db).await
}

/// Stores what a node tells of a drill. Returns whether it was to do it, and it was not over.
pub async fn report(
    db: impl PgExecutor<'_>,
    no: i64,
    node: Uuid,
    report: &DrillReport,
) -> sqlx::Result<bool> {
    let text = serde_json::to_string(report).map_err(|error| sqlx::Error::Encode(error.into()))?;
    let stored = sqlx::query(include_str!("sql/drill/report.sql"))
        .bind(no)
        .bind(node)
        .bind(text)
        .bind(sql_now())
        .bind(report.is_over())
        .execute(db)
        .await?;
    Ok(stored.rows_affected() > 0)
}

/// Returns the clauses of a drill of a node that went on at about a moment; none if there was none.
pub async fn clauses_of(
    db: impl PgExecutor<'_>,
    no: i64,
    node: Uuid,
    at: Timestamp,
) -> sqlx::Result<BTreeSet<String>> {
    let clauses: Option<Vec<String>> = sqlx::query_scalar(include_str!("sql/drill/clauses_of.sql"))
        .bind(no)
        .bind(node)
        .bind(at.to_sqlx())
        .fetch_optional(db)
        .await?;
    Ok(clauses.unwrap_or_default().into_iter().collect())
}

/// A drill.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct DrillRow {
    #[sqlx(flatten)]
    pub asked: OfferRow,
    pub node_name: String,
    pub asked_at: SqlTimestamp,
    pub offered_until: SqlTimestamp,
    pub was_waiting: bool,
    pub told: Option<Value>,
    pub over_at: Option<SqlTimestamp>,
    pub promised_at: Option<SqlTimestamp>,
}

/// Returns a drill.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<DrillRow>> {
    sqlx::query_as(include_str!("sql/drill/by_no.sql")).bind(no).fetch_optional(db).await
}
