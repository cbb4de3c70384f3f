//! Runs that were reported in each hour.

use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::PgExecutor;

/// What was reported in an hour.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct RunHourRow {
    /// When the hour began.
    pub from_at: SqlTimestamp,
    /// Number of runs.
    pub runs: i64,
    /// Number of clauses that they corrected.
    pub corrections: i64,
    /// Number of clauses that failed.
    pub failures: i64,
}

/// Adds runs, corrections and failures to the present hour.
pub async fn add(db: impl PgExecutor<'_>, [runs, corrections, failures]: [u64; 3]) -> sqlx::Result<()> {
    let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
    sqlx::query(include_str!("sql/run_hour/add.sql"))
        .bind(sql_now())
        .bind(number(runs))
        .bind(number(corrections))
        .bind(number(failures))
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the hours that began at a moment or later and in which something was reported, the first one first.
pub async fn since(db: impl PgExecutor<'_>, from: Timestamp) -> sqlx::Result<Vec<RunHourRow>> {
    sqlx::query_as(include_str!("sql/run_hour/since.sql")).bind(from.to_sqlx()).fetch_all(db).await
}
