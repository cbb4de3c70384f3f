//! What is too old to be kept: deleted in steps, so that nothing waits for it.

use crate::clock::sql_now;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_sqlx::{Date as SqlDate, ToSqlx as _};
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// This many rows are deleted by one statement.
pub const AT_ONCE: u64 = 10_000;

/// What is deleted once it ended before a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Old {
    /// Deviations.
    Deviations,
    /// Times for which nothing was known of a node.
    Gaps,
    /// Windows of drifts.
    Doubts,
    /// Runs of which no report came.
    MissingRuns,
    /// Spans of runs that found the same.
    RunSpans,
    /// Spans of check-ins.
    Contacts,
    /// Episodes of drift.
    Episodes,
    /// What nodes were called and labelled, and what they said of themselves.
    Attributes,
    /// Long work.
    Jobs,
    /// What nodes had on record when something drifted.
    RelatedRecords,
    /// Which nodes were asked to check in at once.
    Wakes,
    /// Self-tests of nodes.
    SelfTests,
    /// What nodes told in inspections.
    Inspections,
    /// Drills.
    Drills,
    /// What was told of runs to who followed them.
    Followed,
    /// Sweeps.
    Sweeps,
    /// Long texts of runs whose month was dropped.
    ReportTexts,
}

impl Old {
    /// All of them.
    pub const ALL: [Self; 17] = [
        Self::Deviations,
        Self::Gaps,
        Self::Doubts,
        Self::MissingRuns,
        Self::RunSpans,
        Self::Contacts,
        Self::Episodes,
        Self::Attributes,
        Self::Jobs,
        Self::RelatedRecords,
        Self::Wakes,
        Self::SelfTests,
        Self::Inspections,
        Self::Drills,
        Self::Followed,
        Self::Sweeps,
        Self::ReportTexts,
    ];

    fn statement(self) -> &'static str {
        match self {
            Self::Deviations => include_str!("sql/retention/deviations.sql"),
            Self::Gaps => include_str!("sql/retention/gaps.sql"),
            Self::Doubts => include_str!("sql/retention/doubts.sql"),
            Self::MissingRuns => include_str!("sql/retention/missing_runs.sql"),
            Self::RunSpans => include_str!("sql/retention/run_spans.sql"),
            Self::Contacts => include_str!("sql/retention/contacts.sql"),
            Self::Episodes => include_str!("sql/retention/episodes.sql"),
            Self::Attributes => include_str!("sql/retention/attributes.sql"),
            Self::Jobs => include_str!("sql/retention/jobs.sql"),
            Self::RelatedRecords => include_str!("sql/retention/related_records.sql"),
            Self::Wakes => include_str!("sql/retention/wakes.sql"),
            Self::SelfTests => include_str!("sql/retention/self_tests.sql"),
            Self::Inspections => include_str!("sql/retention/inspections.sql"),
            Self::Drills => include_str!("sql/retention/drills.sql"),
            Self::Followed => include_str!("sql/retention/followed.sql"),
            Self::Sweeps => include_str!("sql/retention/sweeps.sql"),
            Self::ReportTexts => include_str!("sql/retention/report_texts.sql"),
        }
    }
}

/// Deletes some of what ended before a moment; returns how many rows.
pub async fn delete(db: impl PgExecutor<'_>, old: Old, before: Timestamp) -> sqlx::Result<u64> {
    let most = i64::try_from(AT_ONCE).unwrap_or(i64::MAX);
    let deleted = sqlx::query(old.statement()).bind(before.to_sqlx()).bind(most).execute(db).await?;
    Ok(deleted.rows_affected())
}

/// Deletes what is kept of some nodes that left the fleet before a moment and did not come back: what they were given and when that was examined
/// first, and what deviated when they left. Returns how many nodes.
pub async fn delete_of_left(db: &mut PgConnection, before: Timestamp) -> sqlx::Result<u64> {
    const NODES: i64 = 200;
    let left: Vec<(i32, Uuid)> = sqlx::query_as(include_str!("sql/retention/left_nodes.sql"))
        .bind(before.to_sqlx())
        .bind(NODES)
        .fetch_all(&mut *db)
        .await?;
    let (numbers, ids): (Vec<i32>, Vec<Uuid>) = left.into_iter().unzip();
    for table in ["deviation", "examined_state", "examined_clause", "missing_runs"] {
        let sql = format!("delete from {table} where node = any($1)");
        sqlx::query(AssertSqlSafe(sql)).bind(&numbers).execute(&mut *db).await?;
    }
    for table in ["change_node", "node_wanted"] {
        let sql = format!("delete from {table} where node = any($1)");
        sqlx::query(AssertSqlSafe(sql)).bind(&ids).execute(&mut *db).await?;
    }
    Ok(numbers.len() as u64)
}

/// Notes the states that were made before a moment and that nothing has any more as dropped: they are deleted when no change is prepared.
pub async fn note_unused_states(db: impl PgExecutor<'_>, before: Timestamp) -> sqlx::Result<u64> {
    let noted = sqlx::query(include_str!("sql/retention/unused_states.sql"))
        .bind(sql_now())
        .bind(before.to_sqlx())
        .execute(db)
        .await?;
    Ok(noted.rows_affected())
}

/// Takes the right to delete until the transaction ends, unless another process has it.
pub async fn try_lock(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/retention/lock.sql")).fetch_one(db).await
}

/// Returns some of the chained days before a day whose leaves are not kept yet: the day, its rows, the digest of its tree.
///
/// Of a day that is not before `without_figures`, the figures must be kept already.
pub async fn next_days(
    db: impl PgExecutor<'_>,
    before: Date,
    without_figures: Date,
) -> sqlx::Result<Vec<(Date, i64, String)>> {
    let rows: Vec<(SqlDate, i64, String)> = sqlx::query_as(include_str!("sql/retention/next_days.sql"))
        .bind(before.to_sqlx())
        .bind(without_figures.to_sqlx())
        .fetch_all(db)
        .await?;
    Ok(rows.into_iter().map(|(day, rows, root)| (day.to_jiff(), rows, root)).collect())
}

/// Keeps the leaves of a day, one after another.
pub async fn keep_leaves(db: impl PgExecutor<'_>, day: Date, leaves: &[u8]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/retention/keep_leaves.sql"))
        .bind(day.to_sqlx())
        .bind(leaves)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the leaves of a day, if they are kept in place of its rows.
pub async fn leaves(db: impl PgExecutor<'_>, day: Date) -> sqlx::Result<Option<Vec<u8>>> {
    let leaves: Option<Option<Vec<u8>>> = sqlx::query_scalar(include_str!("sql/retention/leaves.sql"))
        .bind(day.to_sqlx())
        .fetch_optional(db)
        .await?;
    Ok(leaves.flatten())
}

/// Returns the last day of which not all rows are kept; none if all are.
pub async fn last_deleted(db: impl PgExecutor<'_>) -> sqlx::Result<Option<Date>> {
    let day: Option<SqlDate> =
        sqlx::query_scalar(include_str!("sql/retention/kept_since.sql")).fetch_one(db).await?;
    Ok(day.map(SqlDate::to_jiff))
}

/// Drops the partitions of runs of the months before a month. Returns which.
pub async fn drop_partitions(db: &mut PgConnection, before: Date) -> sqlx::Result<Vec<String>> {
    let first_kept = format!("run_{}", before.strftime("%Y_%m"));
    let names: Vec<String> = sqlx::query_scalar(include_str!("sql/retention/partitions.sql"))
        .bind(first_kept)
        .fetch_all(&mut *db)
        .await?;
    for name in &names {
        // Nothing in it comes from outside.
        sqlx::query(AssertSqlSafe(format!("drop table {name}"))).execute(&mut *db).await?;
    }
    Ok(names)
}
