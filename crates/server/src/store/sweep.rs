//! Sweeps, and how far each of their nodes is.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// A node of the fleet that a sweep may ask, as it is now.
#[derive(Debug, sqlx::FromRow)]
pub struct TargetRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Whether it is refused.
    pub is_revoked: bool,
    /// Whether two machines have its identity.
    pub has_duplicate_identity: bool,
    /// Whether anything is wanted of it.
    pub has_state: bool,
    /// How its agent is set.
    pub settings: Value,
    /// Whether it is silent.
    pub is_silent: bool,
    /// Whether a request of it is held.
    pub can_be_woken: bool,
    /// The status of its last full run.
    pub full_status: Option<String>,
    /// That run.
    pub full_run: Option<Uuid>,
    /// When it was learned.
    pub full_learned: Option<SqlTimestamp>,
}

/// Returns these nodes as they are now, by name.
pub async fn targets(db: impl PgExecutor<'_>, nodes: &[Uuid]) -> sqlx::Result<Vec<TargetRow>> {
    sqlx::query_as(include_str!("sql/sweep/targets.sql")).bind(nodes).bind(sql_now()).fetch_all(db).await
}

/// Returns the clauses that these runs, each of a node, did not find as wanted and did not correct, as far as the runs are kept.
pub async fn out_of_line(db: impl PgExecutor<'_>, runs: &[(Uuid, Uuid)]) -> sqlx::Result<Vec<(Uuid, Value)>> {
    sqlx::query_as(include_str!("sql/sweep/out_of_line.sql"))
        .bind(runs.iter().map(|(node, _)| *node).collect::<Vec<_>>())
        .bind(runs.iter().map(|(_, run)| *run).collect::<Vec<_>>())
        .fetch_all(db)
        .await
}

/// A sweep to be begun.
pub struct NewRow<'a> {
    /// By this nodes know it.
    pub id: Uuid,
    /// What each node is to do.
    pub body: &'a Value,
    /// The nodes in words.
    pub which: &'a str,
    /// Who asks.
    pub who: &'a str,
    /// Why.
    pub because: &'a str,
    /// From when on nodes may begin it.
    pub begins_at: Timestamp,
    /// Until when.
    pub ends_at: Timestamp,
    /// The observing sweep whose findings it corrects.
    pub follows: Option<i64>,
    /// Its nodes.
    pub nodes: &'a [NewNode],
}

/// A node of a sweep to be begun.
#[derive(Debug, Clone)]
pub struct NewNode {
    /// The node.
    pub node: Uuid,
    /// What it is to correct, if not all.
    pub observed: Option<Value>,
    /// How many clauses these are.
    pub would: i32,
    /// Why it does nothing of it, if that is known already.
    pub refused: Option<Value>,
}

/// Begins a sweep and returns its number.
pub async fn add(db: &mut PgConnection, new: &NewRow<'_>) -> sqlx::Result<i64> {
    let no: i64 = sqlx::query_scalar(include_str!("sql/sweep/add.sql"))
        .bind(new.id)
        .bind(new.body)
        .bind(new.which)
        .bind(new.who)
        .bind(new.because)
        .bind(sql_now())
        .bind(new.begins_at.to_sqlx())
        .bind(new.ends_at.to_sqlx())
        .bind(new.follows)
        .fetch_one(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/sweep/add_nodes.sql"))
        .bind(no)
        .bind(new.nodes.iter().map(|node| node.node).collect::<Vec<_>>())
        .bind(new.nodes.iter().map(|node| node.observed.as_ref()).collect::<Vec<_>>())
        .bind(new.nodes.iter().map(|node| node.would).collect::<Vec<_>>())
        .bind(new.nodes.iter().map(|node| node.refused.as_ref()).collect::<Vec<_>>())
        .execute(&mut *db)
        .await?;
    Ok(no)
}

/// Takes a sweep whose time to begin has come and whose nodes were not woken for it: returns its number, who asked and why.
pub async fn to_begin(db: impl PgExecutor<'_>) -> sqlx::Result<Option<(i64, String, String)>> {
    sqlx::query_as(include_str!("sql/sweep/to_begin.sql")).bind(sql_now()).fetch_optional(db).await
}

/// Returns how many sweeps were asked for since a moment.
pub async fn count_since(db: impl PgExecutor<'_>, since: Timestamp) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/sweep/recent.sql")).bind(since.to_sqlx()).fetch_one(db).await
}

/// A sweep as a node is offered it.
#[derive(Debug, sqlx::FromRow)]
pub struct OfferRow {
    /// Its number.
    pub no: i64,
    /// By this nodes know it.
    pub id: Uuid,
    /// What the node is to do.
    pub body: Value,
    /// Who asks.
    pub who: String,
    /// Why.
    pub because: String,
    /// Until when it may be begun.
    pub ends_at: SqlTimestamp,
    /// What is to be corrected, if not all.
    pub observed: Option<Value>,
    /// The generation of what is wanted of the node: its epoch.
    pub epoch: Option<i64>,
    /// And its counter.
    pub counter: Option<i64>,
}

/// Returns the sweeps that a node is to take part in and has not reported of, the oldest first, and notes that they are offered. None to
/// a node whose identity two machines have.
pub async fn offers(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<OfferRow>> {
    sqlx::query_as(include_str!("sql/sweep/offers.sql")).bind(node).bind(sql_now()).fetch_all(db).await
}

/// Notes how far the run of a node is; that it has begun, if it has. Returns whether the sweep was stopped, and whether it enforces; none
/// if the node does not take part, or has reported.
pub async fn progress(
    db: impl PgExecutor<'_>,
    id: Uuid,
    node: Uuid,
    progress: &Value,
    has_begun: bool,
) -> sqlx::Result<Option<(bool, bool)>> {
    sqlx::query_as(include_str!("sql/sweep/progress.sql"))
        .bind(id)
        .bind(node)
        .bind(progress)
        .bind(has_begun)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Notes why a node does nothing of a sweep; the first reason counts. Returns whether it takes part.
pub async fn refuse(db: impl PgExecutor<'_>, id: Uuid, node: Uuid, refused: &Value) -> sqlx::Result<bool> {
    let noted = sqlx::query(include_str!("sql/sweep/refuse.sql"))
        .bind(id)
        .bind(node)
        .bind(refused)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(noted.rows_affected() > 0)
}

/// What the run of a node came to.
pub struct Done<'a> {
    /// The sweep.
    pub id: Uuid,
    /// The node.
    pub node: Uuid,
    /// When the run began, by the server's clock.
    pub began: Timestamp,
    /// The run, if it is kept whole.
    pub run: Option<Uuid>,
    /// What it came to.
    pub came_of: &'a Value,
    /// The status of the run.
    pub status: &'a str,
    /// Whether all that it examined is in line.
    pub is_in_line: bool,
    /// How many clauses it corrected.
    pub corrected: i32,
    /// Whether it left any.
    pub with_left: bool,
    /// How many it left since they changed after they were observed.
    pub changed_since: i32,
    /// What an observing run would have corrected, and how many clauses these are.
    pub found: Option<(&'a Value, i32)>,
}

/// Notes what the run of a node came to. Only the first report of it counts.
pub async fn done(db: impl PgExecutor<'_>, done: &Done<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/sweep/done.sql"))
        .bind(done.id)
        .bind(done.node)
        .bind(sql_now())
        .bind(done.began.to_sqlx())
        .bind(done.run)
        .bind(done.came_of)
        .bind(done.found.map(|(found, _)| found))
        .bind(done.found.map(|(_, would)| would))
        .bind(done.status)
        .bind(done.is_in_line)
        .bind(done.corrected)
        .bind(done.with_left)
        .bind(done.changed_since)
        .execute(db)
        .await
        .map(|_| ())
}

/// Stops a sweep. Returns whether anything of it was left to be done.
pub async fn stop(db: impl PgExecutor<'_>, no: i64, by: &str) -> sqlx::Result<bool> {
    let stopped =
        sqlx::query(include_str!("sql/sweep/stop.sql")).bind(no).bind(sql_now()).bind(by).execute(db).await?;
    Ok(stopped.rows_affected() > 0)
}

/// Stops all sweeps that nodes may still begin: the database was put back, and what came of them since is not known.
pub async fn end_all(db: impl PgExecutor<'_>, by: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/sweep/end_all.sql")).bind(sql_now()).bind(by).execute(db).await.map(|_| ())
}

/// Returns the nodes of a sweep that have neither reported nor refused.
pub async fn open_nodes(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/sweep/open_nodes.sql")).bind(no).fetch_all(db).await
}

/// What a node reported in an observing sweep.
#[derive(Debug, sqlx::FromRow)]
pub struct FoundRow {
    /// The node.
    pub node: Uuid,
    /// Its name.
    pub name: String,
    /// What would be corrected.
    pub found: Option<Value>,
    /// How many clauses these are.
    pub would: i32,
}

/// Returns what the nodes of an observing sweep reported, by name.
pub async fn found_by(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<FoundRow>> {
    sqlx::query_as(include_str!("sql/sweep/found_by.sql")).bind(no).fetch_all(db).await
}

/// A clause that failed on nodes in the same way.
#[derive(Debug, sqlx::FromRow)]
pub struct FailureRow {
    /// The clause.
    pub address: String,
    /// What happened.
    pub message: String,
    /// On how many nodes.
    pub nodes: i64,
    /// Some of their names.
    pub names: Vec<String>,
}

/// Returns what failed in a sweep, by clause and message, what failed on most nodes first.
pub async fn failures(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<FailureRow>> {
    sqlx::query_as(include_str!("sql/sweep/failures.sql")).bind(no).fetch_all(db).await
}

/// How the node `x` of the sweep `s` is at `$1`. One that has begun is heard of until a while after it told how far it is.
const STATE: &str = "case when x.done_at is not null then 'done' when x.refused is not null then 'refused'
        when x.begun_at is not null and (x.told_at > $1 - interval '2 minutes' or (s.ends_at > $1 and s.stopped_at is null)) then 'begun'
        when s.ends_at <= $1 or s.stopped_at is not null then 'not_reached'
        when x.offered_at is not null then 'offered' else 'pending' end";

/// A sweep, and what came of it so far.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct SweepRow {
    pub no: i64,
    pub body: Value,
    pub which: String,
    pub who: String,
    pub because: String,
    pub asked_at: SqlTimestamp,
    pub begins_at: SqlTimestamp,
    pub ends_at: SqlTimestamp,
    pub stopped_at: Option<SqlTimestamp>,
    pub stopped_by: Option<String>,
    pub follows: Option<i64>,
    pub enforced_by: Option<i64>,
    pub last_done_at: Option<SqlTimestamp>,
    pub expected_end: Option<SqlTimestamp>,
    pub nodes: i64,
    pub pending: i64,
    pub silent: i64,
    pub offered: i64,
    pub begun: i64,
    pub done: i64,
    pub refused: i64,
    pub not_reached: i64,
    pub in_line: i64,
    pub in_line_before: i64,
    pub failed: i64,
    pub corrected: i64,
    pub with_left: i64,
    pub would: i64,
    pub corrected_clauses: i64,
    pub changed_since: i64,
}

impl SweepRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor::of_number(self.no)
    }
}

fn sweeps_sql(which: &str) -> String {
    format!(
        "select s.no, s.body, s.which, s.who, s.because, s.asked_at, s.begins_at, s.ends_at, s.stopped_at, s.stopped_by, s.follows,
                (select max(f.no) from sweep f where f.follows = s.no) as enforced_by, c.* from ({which}) s cross join lateral (
            select max(x.done_at) as last_done_at, max(x.begun_at + x.last_took) filter (where x.state = 'begun') as expected_end, count(*) as nodes, count(*) filter (where x.state = 'pending') as pending, count(*) filter (where x.state = 'offered') as offered,
                count(*) filter (where x.state = 'pending' and x.is_silent) as silent, count(*) filter (where x.state = 'begun') as begun, count(*) filter (where x.state = 'done') as done, count(*) filter (where x.state = 'refused') as refused,
                count(*) filter (where x.state = 'not_reached') as not_reached, count(*) filter (where x.is_in_line) as in_line,
                count(*) filter (where x.was_in_line) as in_line_before, count(*) filter (where x.status = 'failed') as failed,
                count(*) filter (where x.corrected > 0) as corrected,
                count(*) filter (where x.with_left) as with_left, coalesce(sum(x.would), 0)::bigint as would,
                coalesce(sum(x.corrected), 0)::bigint as corrected_clauses,
                coalesce(sum(x.changed_since), 0)::bigint as changed_since
            from (select x.status, x.is_in_line, x.was_in_line, x.corrected, x.with_left, x.would, x.changed_since, x.done_at, x.begun_at, {STATE} as state,
                    case when x.done_at is null then (x.progress ->> 'last_took_ms')::bigint * interval '1 millisecond' end as last_took, coalesce(n.silent_after < $1, true) as is_silent
                    from sweep_node x left join node_now n on n.node = x.node and x.done_at is null and x.refused is null where x.sweep = s.no) x) c order by s.no desc"
    )
}

/// Returns a sweep.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<SweepRow>> {
    sqlx::query_as(AssertSqlSafe(sweeps_sql("select * from sweep where no = $2")))
        .bind(sql_now())
        .bind(no)
        .fetch_optional(db)
        .await
}

/// Returns the sweeps that nodes may still begin, or run, at most 20.
pub async fn open(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<SweepRow>> {
    let open = "select * from sweep where begins_at <= $1 and ends_at > $1 - interval '1 hour' and exists (
        select 1 from sweep_node x where x.sweep = sweep.no and x.done_at is null and x.refused is null) order by no desc limit 20";
    sqlx::query_as(AssertSqlSafe(sweeps_sql(open))).bind(sql_now()).fetch_all(db).await
}

/// Returns a page of the sweeps, the newest first.
pub async fn list(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<SweepRow>> {
    let page = "select * from sweep where no < $2 order by no desc limit $3";
    sqlx::query_as(AssertSqlSafe(sweeps_sql(page)))
        .bind(sql_now())
        .bind(range.before(i64::MAX))
        .bind(range.rows())
        .fetch_all(db)
        .await
}

/// A node of a sweep.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct NodeRow {
    pub name: String,
    pub state: String,
    pub is_in_line: bool,
    pub was_in_line: bool,
    pub run: Option<Uuid>,
    pub would: i32,
    pub progress: Option<Value>,
    pub begun_at: Option<SqlTimestamp>,
    pub told_at: Option<SqlTimestamp>,
    pub done_at: Option<SqlTimestamp>,
    pub came_of: Option<Value>,
    pub refused: Option<Value>,
    pub heard_at: Option<SqlTimestamp>,
    pub promised_at: Option<SqlTimestamp>,
    pub is_silent: bool,
    pub ends_at: SqlTimestamp,
    /// Those that failed come first.
    pub place: i32,
}

impl NodeRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: Timestamp::UNIX_EPOCH, key: format!("{} {}", self.place, self.name) }
    }
}

/// Returns the nodes of a sweep: what failed first, then what runs, what was left, what is waited for, what is done; each by name. At most
/// `most` after such a place.
pub async fn nodes(
    db: impl PgExecutor<'_>,
    no: i64,
    after: Option<(i32, &str)>,
    most: i64,
) -> sqlx::Result<Vec<NodeRow>> {
    let sql = format!(
        "select * from (select y.*, case when y.status = 'failed' then 0 when y.state = 'begun' then 1 when y.state = 'done' and not y.is_in_line then 2
                when y.state = 'refused' then 3 when y.state = 'not_reached' then 4 when y.state = 'done' then 6 else 5 end as place from (
            select node.name, {STATE} as state, x.status, x.is_in_line, x.was_in_line, x.run, x.would, x.progress, x.begun_at, x.told_at, x.done_at, x.came_of, x.refused,
                n.heard_at, n.promised_at, coalesce(n.silent_after < $1, true) as is_silent, s.ends_at
            from sweep_node x join sweep s on s.no = x.sweep join node on node.id = x.node left join node_now n on n.node = x.node where x.sweep = $2) y) z
        where $3::integer is null or (z.place, z.name) > ($3, $4) order by z.place, z.name limit $5"
    );
    sqlx::query_as(AssertSqlSafe(sql))
        .bind(sql_now())
        .bind(no)
        .bind(after.map(|(place, _)| place))
        .bind(after.map(|(_, name)| name))
        .bind(most)
        .fetch_all(db)
        .await
}

/// A node that reported in two sweeps.
#[derive(Debug, sqlx::FromRow)]
pub struct ComparedRow {
    /// Its name.
    pub name: String,
    /// Whether all that it examined was in line in the earlier one.
    pub was_in_line: bool,
    /// And in the later one.
    pub is_in_line: bool,
}

/// Returns the nodes that reported in both sweeps, by name.
pub async fn compared(db: impl PgExecutor<'_>, before: i64, after: i64) -> sqlx::Result<Vec<ComparedRow>> {
    sqlx::query_as(include_str!("sql/sweep/compared.sql")).bind(before).bind(after).fetch_all(db).await
}
