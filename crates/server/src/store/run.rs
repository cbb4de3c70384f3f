//! Runs: eventful ones whole, uneventful ones as spans.

use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Makes the partitions for the months of these moments, ahead of need.
pub async fn make_partitions(db: &mut PgConnection, moments: &[Timestamp]) -> sqlx::Result<()> {
    for moment in moments {
        let month = moment.to_zoned(jiff::tz::TimeZone::UTC).date().first_of_month();
        let next = month.checked_add(jiff::Span::new().months(1)).map_err(|error| sqlx::Error::Encode(error.into()))?;
        let name = format!("run_{}", month.strftime("%Y_%m"));
        // Nothing in it comes from outside.
        let sql = format!("create table if not exists {name} partition of run for values from ('{month} 00:00:00+00') to ('{next} 00:00:00+00')");
        sqlx::query(AssertSqlSafe(sql)).execute(&mut *db).await?;
    }
    Ok(())
}

/// Where a node is in the order of its runs.
#[derive(Debug, sqlx::FromRow)]
pub struct OrderRow {
    /// New when the node's memory was lost.
    pub memory_epoch: Uuid,
    /// Of its last run.
    pub sequence: i64,
    /// The span that its last run lengthened, if it was uneventful.
    pub span: Option<i64>,
    /// How many drift episodes are open.
    pub open_episodes: i32,
    /// Whether anything was not in line at its last full run.
    pub has_exceptions: bool,
    /// Whether its memory is lost.
    pub is_memory_lost: bool,
}

/// Returns where a node is in the order of its runs. Its row is locked until the transaction ends.
pub async fn order(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<OrderRow>> {
    sqlx::query_as(
        "select memory_epoch, sequence, span, open_episodes, memory_lost_at is not null as is_memory_lost, exists (select 1 from node_exception e where e.node = node_now.node) as has_exceptions
         from node_now where node = $1 for update",
    )
    .bind(node)
    .fetch_optional(db)
    .await
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
}

/// Stores a run whole; `texts` says where its long texts belong, by digest.
pub async fn add(db: impl PgExecutor<'_>, node: Uuid, row: &NewRun<'_>, report: &Value, texts: &Value) -> sqlx::Result<()> {
    sqlx::query("insert into run (node, run, began, mode, status, partial, state, report, texts) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)")
        .bind(node)
        .bind(row.run)
        .bind(row.began.to_sqlx())
        .bind(row.mode)
        .bind(row.status)
        .bind(row.partial)
        .bind(row.state)
        .bind(report)
        .bind(texts)
        .execute(db)
        .await
        .map(|_| ())
}

/// Where a node is after a run.
pub struct Place {
    /// New when the node's memory was lost.
    pub memory_epoch: Uuid,
    /// Of the run.
    pub sequence: i64,
    /// The span that the run lengthened, if it was uneventful.
    pub span: Option<i64>,
}

/// Notes where a node is in the order of its runs, and its standing if the run was a full one.
pub async fn note(db: impl PgExecutor<'_>, node: Uuid, place: &Place, row: &NewRun<'_>) -> sqlx::Result<()> {
    sqlx::query(
        "insert into node_now as n (node, memory_epoch, sequence, span, full_status, full_state, full_began, full_run, full_learned)
         values ($1, $2, $3, $4, case when $9 then $5 end, case when $9 then $6 end, case when $9 then $7::timestamptz end, case when $9 then $8::uuid end, case when $9 then now() end)
         on conflict (node) do update set memory_epoch = excluded.memory_epoch, sequence = excluded.sequence, span = excluded.span,
             full_status = coalesce(excluded.full_status, n.full_status), full_state = coalesce(excluded.full_state, n.full_state),
             full_began = coalesce(excluded.full_began, n.full_began), full_run = coalesce(excluded.full_run, n.full_run),
             full_learned = coalesce(excluded.full_learned, n.full_learned)",
    )
    .bind(node)
    .bind(place.memory_epoch)
    .bind(place.sequence)
    .bind(place.span)
    .bind(row.status)
    .bind(row.state)
    .bind(row.began.to_sqlx())
    .bind(row.run)
    .bind(!row.partial)
    .execute(db)
    .await
    .map(|_| ())
}

/// Notes whether a node lost its memory, or has one of everything again.
pub async fn note_memory(db: impl PgExecutor<'_>, node: Uuid, lost: bool, is_whole_again: bool) -> sqlx::Result<()> {
    sqlx::query(
        "update node_now set memory_lost_at = case when $2 then now() else null end where node = $1 and ($2 or ($3 and memory_lost_at is not null))",
    )
    .bind(node)
    .bind(lost)
    .bind(is_whole_again)
    .execute(db)
    .await
    .map(|_| ())
}

/// Lengthens a span by one equal run, if it is of the same state and mode, and was learned before the next check-in was
/// promised. Returns whether it was.
pub async fn lengthen(db: impl PgExecutor<'_>, span: i64, row: &NewRun<'_>, now: Timestamp) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "update run_span set last_at = $4, count = count + 1, last_learned_at = $5,
             largest_gap_ms = greatest(largest_gap_ms, (extract(epoch from ($4 - last_at)) * 1000)::bigint),
             largest_delay_ms = greatest(largest_delay_ms, (extract(epoch from ($5 - $4)) * 1000)::bigint)
         where id = $1 and state = $2 and mode = $3
             and $5 - $4 <= coalesce((select (promised_at - last_at) * 1.1 + interval '60 seconds' - make_interval(secs => coalesce(clock_off_ms, 0) / 1000.0)
                 from heard h where h.node = run_span.node order by id desc limit 1), interval '1050 seconds')",
    )
    .bind(span)
    .bind(row.state)
    .bind(row.mode)
    .bind(row.began.to_sqlx())
    .bind(now.to_sqlx())
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Begins a span with an uneventful run.
pub async fn begin_span(db: impl PgExecutor<'_>, node: Uuid, row: &NewRun<'_>, now: Timestamp) -> sqlx::Result<i64> {
    sqlx::query_scalar(
        "insert into run_span (node, state, mode, first_at, last_at, count, largest_gap_ms, largest_delay_ms)
         values ($1, $2, $3, $4, $4, 1, 0, (extract(epoch from ($5 - $4)) * 1000)::bigint) returning id",
    )
    .bind(node)
    .bind(row.state)
    .bind(row.mode)
    .bind(row.began.to_sqlx())
    .bind(now.to_sqlx())
    .fetch_one(db)
    .await
}

/// One run, or one span, as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// The run; none for a span.
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
}

/// Returns a node's runs, the last one first; at most 200. They are learned in the order of their sequence.
pub async fn of_node(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<ListedRow>> {
    sqlx::query_as(
        "(select run, began, began as last, 1::bigint as count, mode, status, report -> 'counts' as counts, state, learned_at as learned
          from run where node = $1 order by learned_at desc limit 200)
         union all
         (select null, first_at, last_at, count, mode, 'in_line', null, state, last_learned_at from run_span where node = $1 order by id desc limit 200)
         order by learned desc, last desc limit 200",
    )
    .bind(node)
    .fetch_all(db)
    .await
}

/// Returns the report of the run whose id begins so, and where its long texts belong.
pub async fn report(db: impl PgExecutor<'_>, node: Uuid, run: &str) -> sqlx::Result<Option<(Value, Value)>> {
    sqlx::query_as("select report, texts from run where node = $1 and starts_with(run::text, $2) order by learned_at desc limit 1")
        .bind(node)
        .bind(run)
        .fetch_optional(db)
        .await
}

/// A run in which something happened.
#[derive(Debug, sqlx::FromRow)]
pub struct LateRow {
    /// The node's name.
    pub node: String,
    /// The run.
    pub run: Uuid,
    /// When it began.
    pub began: SqlTimestamp,
    /// When the server learned it.
    pub learned: SqlTimestamp,
    /// Its mode.
    pub mode: String,
    /// Its status.
    pub status: String,
}

/// Returns the last runs of the fleet in which something happened, the newest first; at most 200. What only finds again
/// what the node's run before it found did not happen.
pub async fn latest(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<LateRow>> {
    sqlx::query_as(
        "with last as (select * from run where learned_at > now() - interval '30 days' order by learned_at desc limit 2000),
             told as (select *, lag(status) over w as status_before, lag(state) over w as state_before from last window w as (partition by node order by learned_at))
         select node.name as node, told.run, told.began, told.learned_at as learned, told.mode, told.status from told join node on node.id = told.node
         where node.retired_at is null
             and (told.status in ('drift_corrected', 'rolled_out') or told.status is distinct from status_before or told.state is distinct from state_before)
         order by told.learned_at desc limit 200",
    )
    .fetch_all(db)
    .await
}

/// Returns a node's last full run and the digest of the state that it ran.
pub async fn last_full(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<(Uuid, String)>> {
    sqlx::query_as("select full_run, full_state from node_now where node = $1 and full_run is not null").bind(node).fetch_optional(db).await
}

/// Returns since when each of a node's exceptions is one.
pub async fn exceptions_since(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<BTreeMap<String, Timestamp>> {
    let rows: Vec<(String, SqlTimestamp)> =
        sqlx::query_as("select address, since from node_exception where node = $1").bind(node).fetch_all(db).await?;
    Ok(rows.into_iter().map(|(address, since)| (address, since.to_jiff())).collect())
}
