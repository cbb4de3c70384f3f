//! The history that compliance is counted from: what was examined, what deviated, and when nothing was known.

use constans_core::compliance::Gap;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// When something was so, and when the server learned it.
#[derive(Debug, Clone, Copy)]
pub struct TwoTimes {
    /// When it was so, by the server's clock.
    pub at: Timestamp,
    /// When the server learned it.
    pub learned_at: Timestamp,
}

/// What is known of a node before one of its reports.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeRow {
    /// Its number.
    pub no: i32,
    /// Its clock minus the server's, in milliseconds.
    pub clock_off_ms: i64,
    /// The state that the report is about, if it was ever this node's.
    pub state: Option<i64>,
    /// Whether a full run examined this state before.
    pub is_state_examined: bool,
    /// Whether any of its deviations is open.
    pub has_open: bool,
}

/// Returns what is known of a node before a report about the state with this digest.
pub async fn node(db: impl PgExecutor<'_>, node: Uuid, state: &str) -> sqlx::Result<NodeRow> {
    sqlx::query_as(include_str!("sql/history/node.sql")).bind(node).bind(state).fetch_one(db).await
}

/// Notes runs of a node of which no report came: how many, and when the run before them was and the one after them.
pub async fn missing_runs(
    db: impl PgExecutor<'_>,
    node: i32,
    runs: i64,
    after: Timestamp,
    before: TwoTimes,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/missing_runs.sql"))
        .bind(node)
        .bind(runs)
        .bind(after.to_sqlx())
        .bind(before.at.to_sqlx())
        .bind(before.learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the desired clauses with these digests.
pub async fn desired(db: impl PgExecutor<'_>, wanted: &[&str]) -> sqlx::Result<Vec<(String, i32)>> {
    sqlx::query_as(include_str!("sql/history/desired.sql")).bind(wanted).fetch_all(db).await
}

/// Returns the desired clauses of a state.
pub async fn desired_of_state(db: impl PgExecutor<'_>, state: i64) -> sqlx::Result<Vec<i32>> {
    sqlx::query_scalar(include_str!("sql/history/desired_of_state.sql")).bind(state).fetch_all(db).await
}

/// Returns the open deviations of a node: the desired clause, the id, and the cause; none if it could not be inspected.
pub async fn open(db: impl PgExecutor<'_>, node: i32) -> sqlx::Result<Vec<(i32, i64, Option<String>)>> {
    sqlx::query_as(include_str!("sql/history/open.sql")).bind(node).fetch_all(db).await
}

/// Ends deviations.
pub async fn end(db: impl PgExecutor<'_>, ids: &[i64], when: TwoTimes) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/end.sql"))
        .bind(ids)
        .bind(when.at.to_sqlx())
        .bind(when.learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Begins deviations of a node, each with its cause; none if it could not be inspected.
pub async fn begin(
    db: impl PgExecutor<'_>,
    node: i32,
    begun: &[(i32, Option<String>)],
    when: TwoTimes,
    run: Uuid,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/begin.sql"))
        .bind(node)
        .bind(begun.iter().map(|(desired, _)| *desired).collect::<Vec<_>>())
        .bind(begun.iter().map(|(_, cause)| cause.as_deref()).collect::<Vec<_>>())
        .bind(when.at.to_sqlx())
        .bind(when.learned_at.to_sqlx())
        .bind(run)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes that a full run examined a state of a node, unless one did before.
pub async fn examined_state(
    db: impl PgExecutor<'_>,
    node: i32,
    state: i64,
    when: TwoTimes,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/examined_state.sql"))
        .bind(node)
        .bind(state)
        .bind(when.at.to_sqlx())
        .bind(when.learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes of some nodes that they were examined as they are wanted, at most so many. Returns of how many.
pub async fn note_examined(db: impl PgExecutor<'_>, most: u64) -> sqlx::Result<u64> {
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let noted = sqlx::query(include_str!("sql/history/note_examined.sql")).bind(most).execute(db).await?;
    Ok(noted.rows_affected())
}

/// Notes that a part of a run examined desired clauses of a node, unless one did before.
pub async fn examined_clauses(
    db: impl PgExecutor<'_>,
    node: i32,
    desired: &[i32],
    when: TwoTimes,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/examined_clauses.sql"))
        .bind(node)
        .bind(desired)
        .bind(when.at.to_sqlx())
        .bind(when.learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes the windows of drifts of a node: desired clause, from when, until when.
pub async fn doubts(
    db: impl PgExecutor<'_>,
    node: i32,
    windows: &[(i32, Timestamp, Timestamp)],
    learned_at: Timestamp,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/doubts.sql"))
        .bind(node)
        .bind(windows.iter().map(|(desired, ..)| *desired).collect::<Vec<_>>())
        .bind(windows.iter().map(|(_, from, _)| from.to_sqlx()).collect::<Vec<_>>())
        .bind(windows.iter().map(|(.., until)| until.to_sqlx()).collect::<Vec<_>>())
        .bind(learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes a gap between two full runs of a node; `learned_at` is when the second one was learned of.
pub async fn gap(db: impl PgExecutor<'_>, node: i32, gap: &Gap, learned_at: Timestamp) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/gap.sql"))
        .bind(node)
        .bind(gap.from.to_sqlx())
        .bind(gap.until.to_sqlx())
        .bind(gap.learned_at.to_sqlx())
        .bind(learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Begins the life of nodes in the fleet, if it is not begun.
pub async fn begin_life(db: impl PgExecutor<'_>, nodes: &[Uuid], at: SqlTimestamp) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/begin_life.sql")).bind(nodes).bind(at).execute(db).await.map(|_| ())
}

/// Ends the life of nodes in the fleet, until they come back.
pub async fn end_life(db: &mut PgConnection, nodes: &[Uuid], at: SqlTimestamp) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/history/end_life.sql")).bind(nodes).bind(at).execute(db).await.map(|_| ())
}
