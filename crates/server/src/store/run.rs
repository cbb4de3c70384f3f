//! Runs: those that found something new whole, and equal ones as spans.

use super::cursor::Cursor;
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Makes the partition for the runs that are learned from a day on until another, if it is not there. Reports that are taken
/// in meanwhile are not waited for: then it fails and is to be tried again.
pub async fn make_partition(db: &mut PgConnection, from: Date, until: Date) -> sqlx::Result<()> {
    // One server process at a time: two would make the same one.
    sqlx::query(include_str!("sql/run/make_partition.sql")).execute(&mut *db).await?;
    // Nothing in it comes from outside.
    let name = format!("run_{}", from.strftime("%Y_%m"));
    let sql = format!(
        "create table if not exists {name} partition of run for values from ('{from} 00:00:00+00') to ('{until} 00:00:00+00')"
    );
    sqlx::query(AssertSqlSafe(sql)).execute(&mut *db).await.map(|_| ())
}

/// Where a node is in the order of its runs.
#[derive(Debug, sqlx::FromRow)]
pub struct OrderRow {
    /// New when the node's memory was lost.
    pub memory_epoch: Uuid,
    /// Of its last run.
    pub sequence: i64,
    /// The span of its last run, if runs that find the same are counted in it.
    pub span: Option<i64>,
    /// How many drift episodes are open.
    pub open_episodes: i32,
    /// The status of its last full run.
    pub full_status: Option<String>,
    /// Whether anything was not in line at its last full run.
    pub has_exceptions: bool,
    /// Whether its memory is lost.
    pub is_memory_lost: bool,
    /// The time of its last run by the server's clock.
    pub ran_at: Option<SqlTimestamp>,
    /// Until when the last run that examined its whole state counts.
    pub known_until: Option<SqlTimestamp>,
    /// When that run was learned of.
    pub known_learned: Option<SqlTimestamp>,
}

/// Returns where a node is in the order of its runs. Its row is locked until the transaction ends.
pub async fn order(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<OrderRow>> {
    sqlx::query_as(include_str!("sql/run/order.sql")).bind(node).fetch_optional(db).await
}

/// A run to be stored.
pub struct NewRun<'a> {
    /// Its id.
    pub run: Uuid,
    /// When it began.
    pub began: Timestamp,
    /// Its mode.
    pub mode: &'a str,
    /// Its status.
    pub status: &'a str,
    /// Whether it touched a part only.
    pub partial: bool,
    /// The digest of its state.
    pub state: &'a str,
    /// When it was, by the server's clock.
    pub ran_at: Timestamp,
    /// Whether it examined the node's whole state.
    pub is_full: bool,
    /// When the server learned it.
    pub learned_at: Timestamp,
    /// The digest of what it found; none if all was in line.
    pub found: Option<&'a str>,
    /// Number of clauses that it knew by the metadata of their files.
    pub known_by_metadata: i32,
}

/// Stores a run whole; `texts` says where its long texts belong, by digest.
pub async fn add(
    db: impl PgExecutor<'_>,
    node: Uuid,
    row: &NewRun<'_>,
    report: &Value,
    texts: &Value,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/run/add.sql"))
        .bind(node)
        .bind(row.run)
        .bind(row.began.to_sqlx())
        .bind(row.mode)
        .bind(row.status)
        .bind(row.partial)
        .bind(row.state)
        .bind(report)
        .bind(texts)
        .bind(row.learned_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Counts this many bytes of a node's reports of today, and returns how many there are now.
pub async fn count_kept(db: impl PgExecutor<'_>, node: Uuid, bytes: i64) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/run/count_kept.sql"))
        .bind(node)
        .bind(sql_now())
        .bind(bytes)
        .fetch_one(db)
        .await
}

/// Where a run is in the order of its node's runs.
pub struct Order {
    /// New when the node's memory was lost.
    pub memory_epoch: Uuid,
    /// Of the run.
    pub sequence: i64,
}

/// Notes where a node is in the order of its runs, the span of the run if it has one, and the node's status if the run was a
/// full one. Its last full run is then the first run of the span, which is kept whole.
pub async fn note(
    db: impl PgExecutor<'_>,
    node: Uuid,
    order: &Order,
    span: Option<i64>,
    row: &NewRun<'_>,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/run/note.sql"))
        .bind(node)
        .bind(order.memory_epoch)
        .bind(order.sequence)
        .bind(span)
        .bind(row.status)
        .bind(row.state)
        .bind(row.began.to_sqlx())
        .bind(row.run)
        .bind(!row.partial)
        .bind(row.learned_at.to_sqlx())
        .bind(row.ran_at.to_sqlx())
        .bind(row.is_full)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes whether a node lost its memory, or has one of everything again.
pub async fn note_memory(
    db: impl PgExecutor<'_>,
    node: Uuid,
    lost: bool,
    is_whole_again: bool,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/run/note_memory.sql"))
        .bind(node)
        .bind(lost)
        .bind(is_whole_again)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// How a span is lengthened by the run `r` that is learned now.
const LENGTHENED: &str = "last_at = r.began, count = count + 1, last_learned_at = r.learned_at,
             largest_gap_ms = greatest(largest_gap_ms, (extract(epoch from (r.began - last_at)) * 1000)::bigint),
             largest_delay_ms = greatest(largest_delay_ms, (extract(epoch from (r.learned_at - r.began)) * 1000)::bigint),
             known_by_metadata = greatest(s.known_by_metadata, r.known_by_metadata)";

/// Whether the run `r` found what those of the span `s` found and was learned before the next check-in had to come; `n` is how
/// the node is now. What still deviates is kept whole once a week.
const IS_EQUAL: &str = "s.state = r.state and s.mode = r.mode and s.found is not distinct from r.found
             and (s.run is null or r.learned_at < s.first_learned_at + interval '7 days')
             and r.learned_at - r.began <= coalesce(n.on_time_until - n.heard_at - make_interval(secs => n.clock_off_ms / 1000.0), interval '1050 seconds')";

/// The time of the run `r` by the server's clock, as [`run_time`](constans_core::compliance::run_time) has it.
const RAN_AT: &str =
    "least(r.learned_at, greatest(n.ran_at, r.began - make_interval(secs => n.clock_off_ms / 1000.0)))";

/// The span of a run.
#[derive(Debug, Clone, Copy, sqlx::FromRow)]
pub struct Span {
    /// Its id.
    pub id: i64,
    /// The first of its runs, which is kept whole; none if all was in line.
    pub run: Option<Uuid>,
}

/// Lengthens a span by one equal run. Returns none if it was not equal.
pub async fn lengthen(db: impl PgExecutor<'_>, span: i64, row: &NewRun<'_>) -> sqlx::Result<Option<Span>> {
    let sql = format!(
        "update run_span s set {LENGTHENED}
         from (select $2::timestamptz as began, $3 as state, $4 as mode, $5::timestamptz as learned_at, $6::text as found, $7::integer as known_by_metadata) r, node_now n
         where s.id = $1 and n.node = s.node and {IS_EQUAL} returning s.id, s.run"
    );
    sqlx::query_as(AssertSqlSafe(sql))
        .bind(span)
        .bind(row.began.to_sqlx())
        .bind(row.state)
        .bind(row.mode)
        .bind(row.learned_at.to_sqlx())
        .bind(row.found)
        .bind(row.known_by_metadata)
        .fetch_optional(db)
        .await
}

/// A full run of the node with this key that changed nothing.
pub struct PlainRun {
    /// The node.
    pub node: Uuid,
    /// The digest of its key.
    pub spki: Vec<u8>,
    /// Where the run is in the order of the node's runs.
    pub order: Order,
    /// Its id.
    pub run: Uuid,
    /// When it began.
    pub began: Timestamp,
    /// Its mode.
    pub mode: String,
    /// Its status.
    pub status: String,
    /// The digest of its state.
    pub state: String,
    /// The digest of what it found; none if all was in line.
    pub found: Option<String>,
    /// Number of clauses that it knew by the metadata of their files.
    pub known_by_metadata: i32,
}

/// Lengthens spans by those of these runs whose node is admitted, whose node's run before found the same, and whose node did not
/// lose its memory; returns their nodes. Nothing is written of the others. No node may be among them twice.
pub async fn lengthen_plain(db: impl PgExecutor<'_>, all: &[PlainRun]) -> sqlx::Result<Vec<Uuid>> {
    let sql = format!(
        "with r as (
             select r.*, $10::timestamptz as learned_at from unnest($1::uuid[], $2::bytea[], $3::uuid[], $4::bigint[], $5::uuid[], $6::timestamptz[], $7::text[], $8::text[], $9::text[], $11::text[], $12::integer[])
                 as r (node, spki, memory_epoch, sequence, run, began, mode, status, state, found, known_by_metadata)
         ), n as (
             update node_now n set ran_at = {RAN_AT}, known_until = {RAN_AT} + make_interval(secs => n.overdue_secs), known_learned = r.learned_at, sequence = r.sequence, full_status = r.status, full_state = r.state, full_began = r.began, full_run = coalesce(s.run, r.run),
                 full_learned = r.learned_at, overdue_at = r.learned_at + make_interval(secs => n.overdue_secs)
             from r join node on node.id = r.node join node_key on node_key.node = r.node and node_key.spki_digest = r.spki, run_span s
             where n.node = r.node and node.revoked_at is null and node.retired_at is null and node_key.revoked_at is null
                 and n.memory_epoch = r.memory_epoch and n.sequence = r.sequence - 1 and n.memory_lost_at is null
                 and (r.found is not null or n.open_episodes = 0 and not exists (select 1 from node_exception e where e.node = n.node)) and s.id = n.span and {IS_EQUAL}
                 and n.known_until >= r.learned_at
             returning s.id, r.began, r.node, r.learned_at, r.known_by_metadata
         ), lengthened as (update run_span s set {LENGTHENED} from n as r where s.id = r.id)
         select node from n"
    );
    sqlx::query_scalar(AssertSqlSafe(sql))
        .bind(all.iter().map(|run| run.node).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.spki.as_slice()).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.order.memory_epoch).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.order.sequence).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.run).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.began.to_sqlx()).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.mode.as_str()).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.status.as_str()).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.state.as_str()).collect::<Vec<_>>())
        .bind(sql_now())
        .bind(all.iter().map(|run| run.found.as_deref()).collect::<Vec<_>>())
        .bind(all.iter().map(|run| run.known_by_metadata).collect::<Vec<_>>())
        .fetch_all(db)
        .await
}

/// Begins a span with a run, which is kept whole if not all was in line.
pub async fn begin_span(db: impl PgExecutor<'_>, node: Uuid, row: &NewRun<'_>) -> sqlx::Result<Span> {
    let run = row.found.map(|_| row.run);
    let id = sqlx::query_scalar(include_str!("sql/run/begin_span.sql"))
        .bind(node)
        .bind(row.state)
        .bind(row.mode)
        .bind(row.began.to_sqlx())
        .bind(row.learned_at.to_sqlx())
        .bind(row.status)
        .bind(row.found)
        .bind(run)
        .bind(row.known_by_metadata)
        .fetch_one(db)
        .await?;
    Ok(Span { id, run })
}

/// One run, or one span, as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// The run, or the first of the span; none if all was in line.
    pub run: Option<Uuid>,
    /// When it, or the first of the span, began.
    pub began: SqlTimestamp,
    /// When the last began.
    pub last: SqlTimestamp,
    /// How many.
    pub count: i64,
    /// The mode.
    pub mode: String,
    /// The status.
    pub status: String,
    /// The counts, of whole runs.
    pub counts: Option<Value>,
    /// The digest of the state.
    pub state: String,
    /// When the server learned it.
    pub learned: SqlTimestamp,
    /// The progress of an interrupted run.
    pub did_not_end: Option<Value>,
    /// Whether it touched a part only.
    pub partial: bool,
    /// How many runs right before it, or between these, no report came of.
    pub missing: i64,
}

impl ListedRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.learned.to_jiff(), key: self.last.to_jiff().to_string() }
    }
}

/// Returns a node's runs, the last one first, at most `most`: of those that were learned before a moment, or then and began before
/// another one. They are learned in the order of their sequence.
pub async fn of_node(
    db: impl PgExecutor<'_>,
    node: Uuid,
    before: Option<(Timestamp, Timestamp)>,
    most: i64,
) -> sqlx::Result<Vec<ListedRow>> {
    let (learned, began) = before.unzip();
    sqlx::query_as(include_str!("sql/run/of_node.sql"))
        .bind(node)
        .bind(learned.map(|at| at.to_sqlx()))
        .bind(began.map(|at| at.to_sqlx()))
        .bind(most)
        .fetch_all(db)
        .await
}

/// A run that is kept whole.
#[derive(Debug, sqlx::FromRow)]
pub struct KeptRow {
    /// Its report, without its long texts.
    pub report: Value,
    /// Where these belong, by digest.
    pub texts: Value,
    /// When the server learned it.
    pub learned_at: SqlTimestamp,
    /// How many runs found the same, with this one; none if no other could.
    pub count: Option<i64>,
    /// When the last of them began.
    pub last_at: Option<SqlTimestamp>,
    /// When the server learned the last of them.
    pub last_learned_at: Option<SqlTimestamp>,
}

/// Returns the run whose id begins so, if it is kept whole.
pub async fn report(db: impl PgExecutor<'_>, node: Uuid, run: &str) -> sqlx::Result<Option<KeptRow>> {
    sqlx::query_as(include_str!("sql/run/report.sql")).bind(node).bind(run).fetch_optional(db).await
}

/// Returns a node's last full run and the digest of the state that it ran.
pub async fn last_full(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<(Uuid, String)>> {
    sqlx::query_as(include_str!("sql/run/last_full.sql")).bind(node).fetch_optional(db).await
}

/// Returns since when each of a node's exceptions is one.
pub async fn exceptions_since(
    db: impl PgExecutor<'_>,
    node: Uuid,
) -> sqlx::Result<BTreeMap<String, Timestamp>> {
    let rows: Vec<(String, SqlTimestamp)> =
        sqlx::query_as(include_str!("sql/run/exceptions_since.sql")).bind(node).fetch_all(db).await?;
    Ok(rows.into_iter().map(|(address, since)| (address, since.to_jiff())).collect())
}
