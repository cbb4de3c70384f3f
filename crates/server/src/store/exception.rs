//! What is not in line at each node now: kept up as its reports come, since what is alike follows from the state's digest.

use super::narrowing::{Narrowing, REFUSED};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor, QueryBuilder};
use uuid::Uuid;

/// An exception.
#[derive(Debug, sqlx::FromRow)]
pub struct ExceptionRow {
    /// The node's name.
    pub node: String,
    /// The clause.
    pub address: String,
    /// What sort of exception it is.
    pub outcome: String,
    /// Why it is not corrected, or what failed.
    pub message: String,
    /// Since when.
    pub since: SqlTimestamp,
}

/// An exception to be kept.
pub struct NewException {
    /// The clause.
    pub address: String,
    /// Its severity.
    pub severity: String,
    /// What sort of exception it is.
    pub sort: String,
    /// Why it was different.
    pub cause: Option<String>,
    /// Why it is not corrected, or what failed.
    pub message: String,
}

/// Keeps what is not in line at a node as of a full run. What was so before keeps since when.
pub async fn set(
    db: &mut PgConnection,
    node: Uuid,
    run: Uuid,
    began: Timestamp,
    rows: &[NewException],
) -> sqlx::Result<()> {
    let addresses: Vec<&str> = rows.iter().map(|row| row.address.as_str()).collect();
    sqlx::query(include_str!("sql/exception/set_delete_node_exception.sql"))
        .bind(node)
        .bind(&addresses)
        .execute(&mut *db)
        .await?;
    if rows.is_empty() {
        return Ok(());
    }
    sqlx::query(include_str!("sql/exception/set_insert_node_exception.sql"))
        .bind(node)
        .bind(began.to_sqlx())
        .bind(run)
        .bind(addresses)
        .bind(rows.iter().map(|row| row.severity.as_str()).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.sort.as_str()).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.cause.as_deref()).collect::<Vec<_>>())
        .bind(rows.iter().map(|row| row.message.as_str()).collect::<Vec<_>>())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the exceptions of the nodes of a list that are not refused; at most 10,000.
pub async fn all(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<Vec<ExceptionRow>> {
    let mut query = QueryBuilder::new(
        "select name as node, address, outcome, message, since from node_exception e where node not in ",
    );
    query.push(REFUSED);
    narrowing.push_among(&mut query, "e.node");
    query.push(" order by since limit 10000").build_query_as().persistent(false).fetch_all(db).await
}

/// Returns the clauses of the nodes of a list that were put right three times or more within the last day, as (node, address,
/// times, since).
pub async fn recurring_drifts(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
) -> sqlx::Result<Vec<(String, String, i64, SqlTimestamp)>> {
    let mut query = QueryBuilder::new(
        "select node.name, e.address, e.times, e.since from (
             select node, address, count(*) as times, min(detected_at) as since from episode
             where closed_as = 'corrected' and drill is null and closed_at > ",
    );
    query.push_bind(sql_now());
    query.push(
        " - interval '1 day' group by node, address having count(*) >= 3) e join node on node.id = e.node",
    );
    narrowing.push_beside(&mut query);
    query.push(" where node.revoked_at is null and node.retired_at is null and ");
    narrowing.push(&mut query);
    query.push(" order by e.times desc limit 100").build_query_as().persistent(false).fetch_all(db).await
}
