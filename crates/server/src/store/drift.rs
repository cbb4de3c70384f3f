//! Drift over the fleet, counted from the episodes of a period.

use super::cursor::Cursor;
use super::episode::EpisodeRow;
use super::narrowing::Narrowing;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{PgExecutor, Postgres, QueryBuilder};
use uuid::Uuid;

/// How many keys of a dimension are shown at most.
pub const MAX_ROWS: usize = 1_000;

/// By what episodes are counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DriftDimension {
    /// The addresses of clauses.
    Clause,
    /// The nodes.
    Node,
    /// The severity that the clause had.
    Severity,
    /// The baselines that desired what the clause drifted from.
    Baseline,
    /// The controls that the clause satisfied.
    Control,
    /// A label of nodes, as it is now.
    Label(String),
}

/// Which episodes are asked for.
pub struct EpisodeChoice<'a> {
    /// On which nodes.
    pub narrowing: &'a Narrowing,
    /// Open at some time since.
    pub since: Timestamp,
    /// Detected before.
    pub until: Timestamp,
    /// Of which clause.
    pub clause: Option<&'a str>,
    /// Only open ones, or only those that ended.
    pub is_open: Option<bool>,
}

/// The episodes of one key, counted; times in seconds.
#[derive(Debug, Default, sqlx::FromRow)]
#[expect(missing_docs, reason = "the names are those of the figures")]
pub struct FiguresRow {
    pub key: Option<String>,
    pub episodes: i64,
    pub nodes: i64,
    pub open: i64,
    pub only_reported: i64,
    pub drills: i64,
    pub detected: i64,
    pub corrected: i64,
    pub by_hand: i64,
    pub by_rollout: i64,
    pub no_longer: i64,
    pub within_median: Option<i64>,
    pub within_p95: Option<i64>,
    pub within_mean: Option<i64>,
    pub after_median: Option<i64>,
    pub after_p95: Option<i64>,
    pub after_mean: Option<i64>,
}

/// Writes the episodes that are asked for, `e`, with their nodes, `node`.
fn push_chosen(query: &mut QueryBuilder<Postgres>, choice: &EpisodeChoice<'_>) {
    query.push(" from episode e join node on node.id = e.node");
    choice.narrowing.push_beside(query);
    query.push(" where e.detected_at < ").push_bind(choice.until.to_sqlx());
    query.push(" and (e.closed_at is null or e.closed_at >= ").push_bind(choice.since.to_sqlx());
    query.push(") and ");
    choice.narrowing.push(query);
    if let Some(clause) = choice.clause {
        query.push(" and e.address = ").push_bind(clause.to_owned());
    }
    if let Some(is_open) = choice.is_open {
        query.push(if is_open { " and e.closed_at is null" } else { " and e.closed_at is not null" });
    }
}

/// Counts the episodes that are asked for, by the keys of a dimension or all together.
pub async fn count(
    db: impl PgExecutor<'_>,
    choice: &EpisodeChoice<'_>,
    by: Option<&DriftDimension>,
) -> sqlx::Result<Vec<FiguresRow>> {
    let (since, until) = (choice.since.to_sqlx(), choice.until.to_sqlx());
    let mut query = QueryBuilder::new("with chosen as (select e.*, node.name");
    match by {
        Some(DriftDimension::Label(label)) => {
            query.push(", node.labels ->> ").push_bind(label.clone()).push(" as label");
        }
        _ => drop(query.push(", null::text as label")),
    }
    push_chosen(&mut query, choice);
    // What clauses were is told by those that desired the same; a clause may have been in several baselines.
    let keys = |list: &str| {
        format!(
            "left join lateral (select distinct keyed.key from desired_clause d join clause l on l.desired = d.id cross join unnest(l.{list}) as keyed (key)
                where d.wanted = c.wanted) k on true"
        )
    };
    let (joined, key) = match by {
        None => (String::new(), "null::text"),
        Some(DriftDimension::Clause) => (String::new(), "c.address"),
        Some(DriftDimension::Node) => (String::new(), "c.name"),
        Some(DriftDimension::Severity) => (String::new(), "c.severity"),
        Some(DriftDimension::Label(_)) => (String::new(), "c.label"),
        Some(DriftDimension::Baseline) => (keys("baselines"), "k.key"),
        Some(DriftDimension::Control) => (keys("satisfies"), "k.key"),
    };
    query.push(format!(
        "), placed as (
            select c.*, {key} as key, p.mode = 'observe' or exists (select 1 from effective_state s cross join unnest(s.clauses) as listed (id)
                    join clause l on l.id = listed.id join desired_clause d on d.id = l.desired
                    where s.id = w.state and d.wanted = c.wanted and coalesce(l.body #>> '{{on_drift,value}}', p.settings ->> 'on_drift') = 'report') as only_reports
            from chosen c left join node_wanted w on w.node = c.node left join placement p on p.id = w.placement {joined}
        ), timed as (
            select *, drill is null and (closed_at is null or closed_at >= "
    ));
    query.push_bind(until).push(") as is_open, drill is null and detected_at >= ").push_bind(since);
    query.push(" as is_detected, drill is null and closed_at < ").push_bind(until);
    query.push(
        " as is_closed, extract(epoch from detected_at - in_line_until) as within, extract(epoch from closed_at - detected_at) as after from placed
        )
        select key, count(*) filter (where drill is null) as episodes, count(distinct node) filter (where drill is null) as nodes, count(*) filter (where drill is not null) as drills, count(*) filter (where is_open) as open,
            count(*) filter (where is_open and only_reports) as only_reported, count(*) filter (where is_detected) as detected,
            count(*) filter (where is_closed and closed_as = 'corrected') as corrected, count(*) filter (where is_closed and closed_as = 'by_hand') as by_hand,
            count(*) filter (where is_closed and closed_as = 'by_rollout') as by_rollout,
            count(*) filter (where is_closed and closed_as in ('not_wanted', 'retired')) as no_longer,
            ceil(percentile_disc(0.5) within group (order by within) filter (where is_detected))::bigint as within_median,
            ceil(percentile_disc(0.95) within group (order by within) filter (where is_detected))::bigint as within_p95,
            ceil(avg(within) filter (where is_detected))::bigint as within_mean,
            ceil(percentile_disc(0.5) within group (order by after) filter (where is_closed and closed_as = 'corrected'))::bigint as after_median,
            ceil(percentile_disc(0.95) within group (order by after) filter (where is_closed and closed_as = 'corrected'))::bigint as after_p95,
            ceil(avg(after) filter (where is_closed and closed_as = 'corrected'))::bigint as after_mean
        from timed group by key",
    );
    // What only drills broke is in no row.
    query.push(if by.is_some() { " having count(*) filter (where drill is null) > 0" } else { "" });
    query.push(" order by count(*) filter (where is_open) desc, count(*) desc, key limit ");
    query.push_bind(i64::try_from(MAX_ROWS).unwrap_or(i64::MAX) + 1);
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// An episode with its node.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeEpisodeRow {
    /// The name that the node has now.
    pub name: String,
    /// The episode.
    #[sqlx(flatten)]
    pub episode: EpisodeRow,
}

/// Returns a page of the episodes that are asked for, open ones first, then the newest: those after a place, one more than `size`.
pub async fn list(
    db: impl PgExecutor<'_>,
    choice: &EpisodeChoice<'_>,
    after: Option<&Cursor>,
    size: u32,
) -> sqlx::Result<Vec<NodeEpisodeRow>> {
    let mut query = QueryBuilder::new(
        "select name, id, address, severity, in_line_until, detected_at, detected_run, closed_at, closed_as, closed_run, drill, listed_at,
            (select r.body from related_records r where r.node = e.node and r.run = e.detected_run and r.address = e.address) as related from (
            select node.name, e.*, case when e.closed_at is null then e.detected_at + interval '1000 years' else e.detected_at end as listed_at",
    );
    push_chosen(&mut query, choice);
    query.push(") e");
    if let Some(after) = after {
        query.push(" where (listed_at, id::text) < (").push_bind(after.at.to_sqlx());
        query.push(", ").push_bind(after.key.clone()).push(")");
    }
    query.push(" order by listed_at desc, id::text desc limit ").push_bind(i64::from(size) + 1);
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// What was found of a clause at a node where it is not in line.
#[derive(Debug, sqlx::FromRow)]
pub struct FoundRow {
    /// The node's name.
    pub node: String,
    /// What sort of exception it is.
    pub outcome: String,
    /// Why it is not corrected, or what failed.
    pub message: String,
    /// Since when.
    pub since: SqlTimestamp,
    /// The run that found it so.
    pub run: Uuid,
    /// What the run said of it, if it is kept whole.
    pub result: Option<Value>,
}

/// The result is taken out of so many reports at most.
pub const MAX_FOUND: usize = 200;

/// Returns what was found of a clause on the nodes of a list where it is not in line now, the newest first; one more than [`MAX_FOUND`]
/// if there are more.
pub async fn found(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    clause: &str,
) -> sqlx::Result<Vec<FoundRow>> {
    let mut query = QueryBuilder::new(
        "select node.name as node, e.outcome, e.message, e.since, e.run,
            jsonb_path_query_first(r.report, '$.clauses[*] ? (@.address == $address)', jsonb_build_object('address', e.address)) as result
            from node_exception e join node on node.id = e.node",
    );
    narrowing.push_beside(&mut query);
    query
        .push(" left join run r on r.node = e.node and r.run = e.run where e.address = ")
        .push_bind(clause.to_owned());
    query.push(" and node.retired_at is null and node.revoked_at is null and ");
    narrowing.push(&mut query);
    query
        .push(" order by e.since desc, node.name limit ")
        .push_bind(i64::try_from(MAX_FOUND).unwrap_or(i64::MAX) + 1);
    query.build_query_as().persistent(false).fetch_all(db).await
}
