//! Rollouts, their waves, and how the nodes of these are.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// Returns the nodes that a prepared change gives something else, each with its value of a label, in the order of their ids.
pub async fn members(
    db: impl PgExecutor<'_>,
    change: i64,
    label: Option<&str>,
) -> sqlx::Result<Vec<(Uuid, String)>> {
    sqlx::query_as(include_str!("sql/rollout/members.sql")).bind(change).bind(label).fetch_all(db).await
}

/// A rollout to be begun.
pub struct NewRollout<'a> {
    /// The number of its change.
    pub change: i64,
    /// How it goes.
    pub plan: &'a Value,
    /// How many waves it has.
    pub waves: i32,
    /// Its nodes, each with its wave.
    pub nodes: &'a [(Uuid, i32)],
}

/// Begins a rollout; no wave of it is handed out.
pub async fn begin(db: &mut PgConnection, new: &NewRollout<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/rollout/begin.sql"))
        .bind(new.change)
        .bind(new.plan)
        .bind(new.waves)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    let (nodes, waves): (Vec<Uuid>, Vec<i32>) = new.nodes.iter().copied().unzip();
    sqlx::query(include_str!("sql/rollout/begin_nodes.sql"))
        .bind(new.change)
        .bind(nodes)
        .bind(waves)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the rollouts whose last wave is not handed out, each with the edits of its change.
pub async fn overlays(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(i64, Value)>> {
    sqlx::query_as(include_str!("sql/rollout/overlays.sql")).fetch_all(db).await
}

/// Returns the rollouts that are under way and not halted.
pub async fn going(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<i64>> {
    sqlx::query_scalar(include_str!("sql/rollout/going.sql")).fetch_all(db).await
}

/// A rollout as it stands, locked until the transaction ends.
#[derive(Debug, sqlx::FromRow)]
pub struct StandsRow {
    /// How it goes.
    pub plan: Value,
    /// `going`, `halted`, `done`, `turned_back`.
    pub status: String,
    /// The last wave that was handed out.
    pub reached: i32,
    /// The change that is to hand out the next one.
    pub next_change: Option<i64>,
    /// The last wave that a person accepted as it is.
    pub accepted: i32,
    /// Since when the last wave settles.
    pub settling_since: Option<SqlTimestamp>,
    /// Whether it is not over.
    pub is_open: bool,
}

/// Locks a rollout and returns how it stands.
pub async fn lock(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<StandsRow>> {
    sqlx::query_as(include_str!("sql/rollout/lock.sql")).bind(no).fetch_optional(db).await
}

/// Returns the nodes of these waves.
pub async fn nodes_of_waves(
    db: impl PgExecutor<'_>,
    no: i64,
    waves: std::ops::RangeInclusive<i32>,
) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/rollout/nodes_of_waves.sql"))
        .bind(no)
        .bind(waves.start())
        .bind(waves.end())
        .fetch_all(db)
        .await
}

/// Notes that a wave is handed out by a change. Returns false if it is not its turn: the rollout is halted or over. A change that a person
/// confirmed by itself has a halted one go on.
pub async fn reach(
    db: impl PgExecutor<'_>,
    no: i64,
    wave: i32,
    change: i64,
    although_halted: bool,
) -> sqlx::Result<bool> {
    let noted = sqlx::query(include_str!("sql/rollout/reach.sql"))
        .bind(no)
        .bind(wave)
        .bind(change)
        .bind(although_halted)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(noted.rows_affected() > 0)
}

/// Notes which change is to hand out the next wave.
pub async fn set_next(db: impl PgExecutor<'_>, no: i64, change: Option<i64>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/rollout/set_next.sql")).bind(no).bind(change).execute(db).await.map(|_| ())
}

/// Notes since when a wave settles.
pub async fn set_settling(
    db: impl PgExecutor<'_>,
    no: i64,
    wave: i32,
    since: Option<Timestamp>,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/rollout/set_settling.sql"))
        .bind(no)
        .bind(wave)
        .bind(since.map(|since| since.to_sqlx()))
        .execute(db)
        .await
        .map(|_| ())
}

/// Halts a rollout, or all of them. Returns whether one was going.
pub async fn halt(db: impl PgExecutor<'_>, no: Option<i64>, because: &str, by: &str) -> sqlx::Result<bool> {
    let halted = sqlx::query(include_str!("sql/rollout/halt.sql"))
        .bind(no)
        .bind(because)
        .bind(by)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(halted.rows_affected() > 0)
}

/// Has a rollout go on. If the waves so far are `accepted`, the next one begins whatever came of them.
pub async fn go_on(db: impl PgExecutor<'_>, no: i64, accepted: bool) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/rollout/go_on.sql")).bind(no).bind(accepted).execute(db).await.map(|_| ())
}

/// Ends a rollout: `done` or `turned_back`.
pub async fn end(db: impl PgExecutor<'_>, no: i64, status: &str, by: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/rollout/end.sql"))
        .bind(no)
        .bind(status)
        .bind(sql_now())
        .bind(by)
        .execute(db)
        .await
        .map(|_| ())
}

/// How each node of the rollout `$2` is, at `$1`; of those that are in the fleet. One that its wave gave nothing else is left out. Where the
/// wave names another version of the agent, a node has finished only with that version, and has failed if it could not be upgraded.
const NODES: &str = "select m.wave, node.name, node.labels, node.agent_upgrade, n.full_status, n.heard_at, n.promised_at,
        case when w.change is null then 'waiting' when c.unusable is not null and n.is_unusable then 'unusable'
            when n.heard_at is null or n.heard_at <= w.handed_out_at then case when coalesce(n.silent_after < $1, true) then 'silent' else 'pending' end
            when u.how = 'failed' then 'failed'
            when f.has_finished and coalesce(u.how, 'done') = 'done' then case when n.full_status <> 'failed' then case p.mode when 'observe' then 'untried' else 'finished' end else 'failed' end
            when n.on_time_until < $1 then 'not_heard' else 'received' end as state
    from rollout_node m join node on node.id = m.node and node.retired_at is null and node.revoked_at is null
        join node_now n on n.node = m.node left join rollout_wave w on w.rollout = m.rollout and w.wave = m.wave
        left join change_node c on c.change = w.change and c.node = m.node
        left join node_wanted d on d.node = m.node left join placement p on p.id = d.placement
        left join effective_state given on given.id = c.state left join effective_state later on later.id = d.state
        cross join lateral (select n.full_learned > w.handed_out_at and n.full_state in (given.digest, later.digest)
            and (c.state is distinct from c.before_state or n.full_learned > c.taken_at) as has_finished) f
        left join placement new_p on new_p.id = c.placement left join placement old_p on old_p.id = c.before_placement
        left join lateral (select case when node.agent_upgrade ->> 'to' = new_p.settings ->> 'agent_version' then node.agent_upgrade ->> 'state' else 'under_way' end as how
            where new_p.settings ->> 'agent_version' is distinct from old_p.settings ->> 'agent_version'
                and p.settings ->> 'agent_version' = new_p.settings ->> 'agent_version' and p.mode <> 'observe') u on true
    where m.rollout = $2 and (w.change is null or c.is_new or c.unusable is not null)";

/// In place of a clause's address where the agent itself is what failed.
const AGENT: &str = "constans-agent";

/// Returns how many nodes of each wave of a rollout are how.
pub async fn figures(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<(i32, String, i64)>> {
    sqlx::query_as(AssertSqlSafe(format!(
        "select wave, state, count(*) from ({NODES}) x group by wave, state"
    )))
    .bind(sql_now())
    .bind(no)
    .fetch_all(db)
    .await
}

/// A node of a rollout.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct NodeRow {
    pub name: String,
    pub wave: i32,
    pub state: String,
    pub full_status: Option<String>,
    pub heard_at: Option<SqlTimestamp>,
    pub promised_at: Option<SqlTimestamp>,
    /// Bad ones come first.
    pub place: i32,
}

impl NodeRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: Timestamp::UNIX_EPOCH, key: format!("{} {}", self.place, self.name) }
    }
}

/// Returns the nodes of a rollout: the bad ones first, then by wave and how they are; each by name. At most `most` after such a place.
pub async fn nodes(
    db: impl PgExecutor<'_>,
    no: i64,
    after: Option<(i32, &str)>,
    most: i64,
) -> sqlx::Result<Vec<NodeRow>> {
    let sql = format!(
        "select name, wave, state, full_status, heard_at, promised_at, place from (select x.*, case when x.state in ('failed', 'unusable', 'not_heard') then 0
                else x.wave * 10 + array_position(array['silent', 'pending', 'received', 'untried', 'finished', 'waiting'], x.state) end as place from ({NODES}) x) y
        where $3::integer is null or (y.place, y.name) > ($3, $4) order by y.place, y.name limit $5"
    );
    let (place, name) = after.unzip();
    sqlx::query_as(AssertSqlSafe(sql))
        .bind(sql_now())
        .bind(no)
        .bind(place)
        .bind(name)
        .bind(most)
        .fetch_all(db)
        .await
}

/// What failed on the nodes of a rollout that received it.
#[derive(Debug, sqlx::FromRow)]
pub struct BadClauseRow {
    /// The clause.
    pub address: String,
    /// What happened.
    pub message: String,
    /// On how many nodes.
    pub nodes: i64,
    /// Some of their names.
    pub names: Vec<String>,
}

/// Returns what failed on the nodes of a rollout that finished a run of it, by clause and message, what failed on most nodes first; at
/// most 200.
pub async fn bad_clauses(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<BadClauseRow>> {
    let sql = format!(
        "select e.address, e.message, count(*) as nodes, (array_agg(e.name order by e.name))[1:3] as names
            from ({NODES}) x join lateral (
                select e.address, e.message, e.name from node_exception e where e.name = x.name and e.outcome = 'failed'
                union all select '{AGENT}', 'not upgraded to ' || (x.agent_upgrade ->> 'to') || ': ' || coalesce(x.agent_upgrade ->> 'why', ''), x.name
                    where x.agent_upgrade ->> 'state' = 'failed') e on true where x.state = 'failed'
            group by e.address, e.message order by count(*) desc, e.address, e.message limit 200"
    );
    sqlx::query_as(AssertSqlSafe(sql)).bind(sql_now()).bind(no).fetch_all(db).await
}

/// Returns how many nodes of the begun waves of a rollout there are, and how many of them are bad, for each value of a label: the worst
/// first; at most 200.
pub async fn bad_within(
    db: impl PgExecutor<'_>,
    no: i64,
    label: &str,
) -> sqlx::Result<Vec<(String, i64, i64)>> {
    let sql = format!(
        "select coalesce(x.labels ->> $3, '') as value, count(*), count(*) filter (where x.state in ('failed', 'unusable', 'not_heard')) as bad
            from ({NODES}) x where x.state <> 'waiting' group by value order by bad desc, value limit 200"
    );
    sqlx::query_as(AssertSqlSafe(sql)).bind(sql_now()).bind(no).bind(label).fetch_all(db).await
}

/// A rollout.
#[derive(Debug, Clone, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct RolloutRow {
    pub no: i64,
    pub what: String,
    pub who: String,
    pub because: Option<String>,
    pub approved_by: Option<String>,
    pub plan: Value,
    pub status: String,
    pub began_at: SqlTimestamp,
    pub reached: i32,
    pub next_change: Option<i64>,
    pub halted_because: Option<String>,
    pub halted_by: Option<String>,
    pub halted_at: Option<SqlTimestamp>,
    pub ended_at: Option<SqlTimestamp>,
    pub ended_by: Option<String>,
}

impl RolloutRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor::of_number(self.no)
    }
}

const ROLLOUTS: &str = "select c.no, c.what, c.who, c.because, c.approved_by, r.plan, r.status, r.began_at, r.reached, r.next_change, r.halted_because, r.halted_by, r.halted_at,
    r.ended_at, r.ended_by from rollout r join change c on c.no = r.change";

/// Returns a rollout.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<RolloutRow>> {
    sqlx::query_as(AssertSqlSafe(format!("{ROLLOUTS} where r.change = $1"))).bind(no).fetch_optional(db).await
}

/// Returns a page of the rollouts, the newest first.
pub async fn list(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<RolloutRow>> {
    sqlx::query_as(AssertSqlSafe(format!("{ROLLOUTS} where r.change < $1 order by r.change desc limit $2")))
        .bind(range.before(i64::MAX))
        .bind(range.rows())
        .fetch_all(db)
        .await
}

/// Returns the rollouts that are not over, the newest first, at most 20.
pub async fn open(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<RolloutRow>> {
    sqlx::query_as(AssertSqlSafe(format!(
        "{ROLLOUTS} where r.ended_at is null order by r.change desc limit 20"
    )))
    .fetch_all(db)
    .await
}

/// How far a rollout is that goes on.
#[derive(Debug, sqlx::FromRow)]
#[expect(missing_docs, reason = "they are those of the interface")]
pub struct ProgressRow {
    pub no: i64,
    pub what: String,
    pub who: String,
    pub began_at: SqlTimestamp,
    pub reached: i32,
    pub waves: i32,
    pub nodes: i64,
    pub nodes_reached: i64,
}

/// Returns how far the rollouts are that go on, with how many nodes each has and has reached; at most 20.
pub async fn progress(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<ProgressRow>> {
    sqlx::query_as(include_str!("sql/rollout/progress.sql")).fetch_all(db).await
}

/// A wave that was handed out.
#[derive(Debug, sqlx::FromRow)]
pub struct WaveRow {
    /// Which.
    pub wave: i32,
    /// The change that handed it out.
    pub change: i64,
    /// When.
    pub handed_out_at: SqlTimestamp,
    /// Since when enough of its nodes have finished a full run of it.
    pub settling_since: Option<SqlTimestamp>,
}

/// Returns the waves of a rollout that were handed out.
pub async fn waves(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<WaveRow>> {
    sqlx::query_as(include_str!("sql/rollout/waves.sql")).bind(no).fetch_all(db).await
}
