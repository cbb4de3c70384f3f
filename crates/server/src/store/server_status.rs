//! What of the server's own work and of its nodes' agents is in the database.

use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::PgExecutor;

/// A version of the agent, and how many nodes have it.
#[derive(Debug, sqlx::FromRow)]
pub struct AgentRow {
    /// The version; none of nodes that never checked in.
    pub version: Option<String>,
    /// How many nodes of the fleet have it.
    pub nodes: i64,
}

/// Work that is not done yet, and the size of the database.
#[derive(Debug, sqlx::FromRow)]
pub struct WorkRow {
    /// Nodes whose desired state is to be resolved anew.
    pub nodes_pending: i64,
    /// Jobs that are not over.
    pub jobs_open: i64,
    /// When the first of them was queued.
    pub oldest_job: Option<SqlTimestamp>,
    /// The size of the database.
    pub database_bytes: i64,
}

/// Returns the versions of the agents.
pub async fn agents(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<AgentRow>> {
    sqlx::query_as(include_str!("sql/server_status/agents.sql")).fetch_all(db).await
}

/// Returns what is not done yet.
pub async fn work(db: impl PgExecutor<'_>) -> sqlx::Result<WorkRow> {
    sqlx::query_as(include_str!("sql/server_status/work.sql")).fetch_one(db).await
}
