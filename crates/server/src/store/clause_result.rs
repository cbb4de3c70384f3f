//! Every clause on every node at a moment, one by one: what compliance counts, for those who count it again.

use super::compliance::{DEVIATING, IS_CONCEDED, Moment, push_known, push_placed, status};
use super::narrowing::Narrowing;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use rocket::futures::TryStreamExt as _;
use sqlx::{PgConnection, PgExecutor, QueryBuilder};
use uuid::Uuid;

/// A node of the fleet at a moment.
#[derive(Debug, sqlx::FromRow)]
pub struct PlacedRow {
    /// Its number.
    pub no: i32,
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its state's id.
    pub state: Option<i64>,
    /// The digest of its state.
    pub digest: Option<String>,
    /// Its stage.
    pub stage: Option<String>,
    /// Its groups.
    pub groups: Option<sqlx::types::Json<Vec<String>>>,
    /// The last full run: not before.
    pub examined_from: Option<SqlTimestamp>,
    /// Not after.
    pub examined_until: Option<SqlTimestamp>,
    /// The run, if it is kept by itself.
    pub run: Option<Uuid>,
    /// Whether the run was enforcing or only observing.
    pub mode: Option<String>,
    /// When the server learned of it.
    pub examined_learned: Option<SqlTimestamp>,
    /// How many clauses it knew at most by the metadata of their files, which were read before.
    pub known_by_metadata: Option<i32>,
    /// Whether it ran again before the moment, and no report came of that run.
    pub has_missing_run: bool,
}

/// Returns the nodes of a list at a moment by name, each with its last full run before it, as far as was known.
///
/// Runs that found the same are kept as one span: if the moment lies within one, the last run was before it by the span's largest
/// gap at most.
pub async fn nodes(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
) -> sqlx::Result<Vec<PlacedRow>> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    query.push(format!(
        " select p.no, p.id, p.name, p.state, s.digest, pl.stage, pl.groups, e.examined_from, e.examined_until, e.run, e.mode, e.examined_learned, least(e.known_by_metadata, cardinality(s.clauses)) as known_by_metadata,
                {HAS_MISSING_RUN} as has_missing_run
            from placed p cross join moment m left join effective_state s on s.id = p.state left join placement pl on pl.id = p.placement
                left join {LAST_RUN} on true order by p.name, p.no"
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// The last full run of a node `p` before a moment `m`, as far as was known.
const LAST_RUN: &str = "lateral (
        select * from (
            (select case when r.last_at <= m.at and r.last_learned_at <= m.known_at then r.last_at
                        else greatest(r.first_at, least(m.at, m.known_at) - make_interval(secs => r.largest_gap_ms / 1000.0)) end as examined_from,
                    least(r.last_at, m.at) as examined_until, r.run, r.mode, least(r.last_learned_at, m.known_at) as examined_learned, r.known_by_metadata
                from run_span r where r.node = p.id and r.first_at <= m.at and r.first_learned_at <= m.known_at order by r.last_at desc limit 1)
            union all
            (select r.began, r.began, r.run, r.mode, r.learned_at, least(coalesce((r.report ->> 'known_by_metadata')::bigint, 0), 2147483647)::integer from run r
                where r.node = p.id and r.began <= m.at and r.learned_at <= m.known_at and not r.partial order by r.began desc limit 1)
        ) either order by examined_until desc, run nulls last limit 1) e";

/// Whether a node `p` ran again before its moment, and no report came of that run.
const HAS_MISSING_RUN: &str = "exists (select from missing_runs r where r.node = p.no and r.after_at < p.at and p.at < r.before_at and r.learned_at <= p.known_at)";

/// The examinations that figures rely on.
#[derive(Debug, Default, sqlx::FromRow)]
pub struct ReliedOnRow {
    /// Number of nodes whose last full run counts.
    pub nodes: i64,
    /// The node whose last full run is the oldest of them.
    pub oldest_node: Option<String>,
    /// When that was, at the earliest.
    pub oldest_at: Option<SqlTimestamp>,
    /// Number of nodes of whose last run no report came.
    pub nodes_with_missing_runs: i64,
    /// How many clauses on these nodes were known at most by the metadata of their files, which were read before.
    pub clauses_by_metadata: i64,
}

/// Returns which examinations the figures of a list rely on at a moment: the last full runs of nodes of which something is known.
pub async fn relied_on(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
) -> sqlx::Result<ReliedOnRow> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    query.push(format!(
        ", relied_on as materialized (select p.name, e.examined_from, {HAS_MISSING_RUN} as has_missing_run, least(e.known_by_metadata, cardinality(s.clauses)) as by_metadata
                from placed p cross join moment m join placement pl on pl.id = p.placement join effective_state s on s.id = p.state cross join {LAST_RUN}
                where p.state is not null and e.examined_until + make_interval(secs => pl.overdue_secs) > m.at)
            select count(*) as nodes, (array_agg(name order by examined_from, name))[1] as oldest_node, min(examined_from) as oldest_at,
                count(*) filter (where has_missing_run) as nodes_with_missing_runs, coalesce(sum(by_metadata), 0)::bigint as clauses_by_metadata from relied_on"
    ));
    query.build_query_as().persistent(false).fetch_one(db).await
}

/// A clause on a node at a moment.
#[derive(Debug, sqlx::FromRow)]
pub struct ResultRow {
    /// The node's number.
    pub node: i32,
    /// The clause.
    pub clause: i64,
    /// Its result; the cause if it is not compliant.
    pub status: String,
    /// Whether a concession covers it.
    pub is_conceded: bool,
    /// Which.
    pub concession: Option<i64>,
    /// Whether it is in the window of a drift that was found later.
    pub is_in_doubt: bool,
    /// Since when it is not as desired.
    pub since: Option<SqlTimestamp>,
    /// When the server learned it.
    pub learned: Option<SqlTimestamp>,
    /// The run that found it.
    pub run: Option<Uuid>,
}

/// Has each counted clause looked at on each node of a list at a moment, by the name of the node and in the order of its state.
///
/// # Errors
///
/// Returns why the database did not answer, or what looking at one returned.
pub async fn each<E: From<sqlx::Error>>(
    db: &mut PgConnection,
    narrowing: &Narrowing,
    moment: Moment,
    controls: &[String],
    mut look: impl AsyncFnMut(ResultRow) -> Result<(), E>,
) -> Result<(), E> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    push_known(&mut query);
    let status = status();
    query.push(format!(
        ", found as (
            select k.moment, k.no, k.name, listed.place, c.id as clause, w.address, {status}, b.node is not null as is_in_doubt, d.id as deviation
            from known k join effective_state s on s.id = k.state cross join unnest(s.clauses) with ordinality as listed (id, place)
                join clause c on c.id = listed.id and c.is_counted join desired_clause w on w.id = c.desired {DEVIATING}"
    ));
    if !controls.is_empty() {
        query.push(" where c.satisfies && ").push_bind(controls.to_vec());
    }
    query.push(format!(
        ") select f.no as node, f.clause, f.status, {IS_CONCEDED} as is_conceded, v.concession, f.is_in_doubt,
                o.from_at as since, o.learned_at as learned, o.run
            from found f left join covered v on v.moment = f.moment and v.no = f.no and v.address = f.address left join deviation o on o.id = f.deviation
            order by f.name, f.no, f.place"
    ));
    let mut rows = query.build_query_as().persistent(false).fetch(db);
    while let Some(row) = rows.try_next().await? {
        look(row).await?;
    }
    Ok(())
}

/// A deviation of a period.
#[derive(Debug, sqlx::FromRow)]
pub struct DeviationOfPeriodRow {
    /// The node's name.
    pub node: String,
    /// The node's id.
    pub node_id: Uuid,
    /// The clause's address.
    pub address: String,
    /// The digest of what is desired.
    pub wanted: String,
    /// Why it was not as desired.
    pub cause: Option<String>,
    /// Since when.
    pub from_at: SqlTimestamp,
    /// When the server learned it.
    pub learned_at: SqlTimestamp,
    /// The run that found it.
    pub run: Uuid,
    /// Until when, as far as was known.
    pub until_at: Option<SqlTimestamp>,
    /// When the server learned that.
    pub until_learned_at: Option<SqlTimestamp>,
}

/// Has each deviation of the nodes of a list looked at that was open at any time from one moment to another, as far as was known, in
/// the order in which they were learned.
///
/// # Errors
///
/// Returns why the database did not answer, or what looking at one returned.
pub async fn deviations<E: From<sqlx::Error>>(
    db: &mut PgConnection,
    narrowing: &Narrowing,
    moment: Moment,
    since: Timestamp,
    controls: &[String],
    mut look: impl AsyncFnMut(DeviationOfPeriodRow) -> Result<(), E>,
) -> Result<(), E> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    query.push(
        " select p.name as node, p.id as node_id, a.address, w.wanted, d.cause, d.from_at, d.learned_at, d.run,
                case when d.until_learned_at <= m.known_at then d.until_at end as until_at, case when d.until_learned_at <= m.known_at then d.until_learned_at end as until_learned_at
            from placed p cross join moment m join deviation d on d.node = p.no join desired_clause w on w.id = d.desired join clause_address a on a.id = w.address
            where d.from_at <= m.at and d.learned_at <= m.known_at and (d.until_at is null or d.until_learned_at > m.known_at or d.until_at > ",
    );
    query.push_bind(since.to_sqlx()).push(")");
    if !controls.is_empty() {
        query.push(" and exists (select 1 from clause c where c.desired = d.desired and c.satisfies && ");
        query.push_bind(controls.to_vec()).push(")");
    }
    query.push(" order by d.learned_at, d.id");
    let mut rows = query.build_query_as().persistent(false).fetch(db);
    while let Some(row) = rows.try_next().await? {
        look(row).await?;
    }
    Ok(())
}
