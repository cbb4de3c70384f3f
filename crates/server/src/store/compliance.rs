//! Compliance, counted from the history: of any moment, and as far as it was known at any moment.

mod count;
mod moved;

use super::narrowing::Narrowing;
use constans_core::compliance::{ClauseCounts, NodeCounts};
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde::Deserialize;
use sqlx::{PgExecutor, Postgres, QueryBuilder};

pub use count::{Counted, KeptRow, count, count_to_keep};
pub use moved::{Compared, MovedRow, compare};

/// Of when, and as known when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment {
    /// The moment that is asked about.
    pub at: Timestamp,
    /// What the server had learned by this moment counts. Not before the other.
    pub known_at: Timestamp,
    /// Whether both are now, so that nothing was handed out since.
    pub is_now: bool,
}

/// By what clauses and nodes are counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Dimension {
    /// The controls that clauses satisfy; a clause that satisfies several counts for each.
    Control,
    /// The baselines that clauses come from.
    Baseline,
    /// The releases that clauses come from.
    Release,
    /// The severity of clauses.
    Severity,
    /// The result of clauses, and why they are not compliant.
    Cause,
    /// The groups of nodes.
    Group,
    /// The baselines that groups assign, each with all that it includes, as `GROUP: KIT/BASELINE`.
    Assignment,
    /// The stages of nodes.
    Stage,
    /// A label of nodes.
    Label(String),
    /// The nodes.
    Node,
    /// The addresses of clauses.
    Clause,
}

/// Which clauses are asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OnlyClauses {
    /// Those that satisfy a control.
    Control(String),
    /// Those of a baseline, as `KIT/BASELINE`.
    Baseline(String),
    /// Those of a release, as `KIT@VERSION`.
    Release(String),
    /// Those of a severity.
    Severity(String),
    /// The one with an address.
    Clause(String),
}

impl OnlyClauses {
    /// Returns the dimension and the key whose figures of days are kept; none of a single clause.
    pub fn kept(&self) -> Option<(&'static str, &str)> {
        match self {
            Self::Control(key) => Some(("control", key)),
            Self::Baseline(key) => Some(("baseline", key)),
            Self::Release(key) => Some(("release", key)),
            Self::Severity(key) => Some(("severity", key)),
            Self::Clause(_) => None,
        }
    }

    /// Writes the condition that a clause `c` with its address `a` is one of them.
    pub(super) fn push(&self, query: &mut QueryBuilder<Postgres>) {
        let (condition, value, end) = match self {
            Self::Control(value) => ("", value, " = any (c.satisfies)"),
            Self::Baseline(value) => ("", value, " = any (c.baselines)"),
            Self::Release(value) => ("", value, " = any (c.releases)"),
            Self::Severity(value) => ("c.severity = ", value, ""),
            Self::Clause(value) => ("a.address = ", value, ""),
        };
        query.push(condition).push_bind(value.clone()).push(end);
    }
}

/// Clauses and nodes of one key of a dimension, or of all, at one of the moments that are asked about.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, sqlx::FromRow)]
pub struct CountedRow {
    /// Whether it counts all, and not those of one key.
    #[sqlx(default)]
    pub is_all: bool,
    /// How many nodes were of the fleet at all, those that have nothing desired too; only of all.
    #[sqlx(default)]
    pub nodes_in_all: i64,
    /// Which of the moments, from 0.
    pub moment: i32,
    /// The key; none for clauses or nodes that have none, and for all.
    pub key: Option<String>,
    /// Clauses that are compliant.
    pub compliant: i64,
    /// Of these, in the window of a drift that was found later.
    pub in_doubt: i64,
    /// Clauses that are not compliant.
    pub noncompliant: i64,
    /// Clauses that are not compliant and covered by a concession.
    pub conceded: i64,
    /// Clauses that were never examined.
    pub unexamined: i64,
    /// Clauses of which nothing is known.
    pub unknown: i64,
    /// Nodes of which every clause is compliant.
    pub nodes_compliant: i64,
    /// Nodes with a clause that is not compliant.
    pub nodes_deviating: i64,
    /// Nodes with a critical clause that is not compliant.
    pub nodes_critical: i64,
    /// Of the other nodes, those with a clause that is unexamined or unknown.
    pub nodes_not_known: i64,
    /// The rest: all that is not compliant is conceded.
    pub nodes_conceded: i64,
}

impl CountedRow {
    /// Returns its clauses.
    pub fn clauses(&self) -> ClauseCounts {
        ClauseCounts {
            compliant: self.compliant.unsigned_abs(),
            in_doubt: self.in_doubt.unsigned_abs(),
            noncompliant: self.noncompliant.unsigned_abs(),
            conceded: self.conceded.unsigned_abs(),
            unexamined: self.unexamined.unsigned_abs(),
            unknown: self.unknown.unsigned_abs(),
        }
    }

    /// Returns its nodes.
    pub fn nodes(&self) -> NodeCounts {
        NodeCounts {
            without_deviation: self.nodes_compliant.unsigned_abs(),
            with_deviation: self.nodes_deviating.unsigned_abs(),
            not_known: self.nodes_not_known.unsigned_abs(),
            conceded: self.nodes_conceded.unsigned_abs(),
            with_critical: self.nodes_critical.unsigned_abs(),
        }
    }
}

/// Returns whether only the present is asked about.
fn is_now(moments: &[Moment]) -> bool {
    matches!(moments, [Moment { is_now: true, .. }])
}

/// Writes the moments that are asked about: `moment (id, at, known_at)`.
fn push_moments(query: &mut QueryBuilder<Postgres>, moments: &[Moment]) {
    query.push("with moment as materialized (select (place - 1)::integer as id, at, known_at from unnest(");
    query.push_bind(moments.iter().map(|moment| moment.at.to_sqlx()).collect::<Vec<_>>());
    query.push("::timestamptz[], ");
    query.push_bind(moments.iter().map(|moment| moment.known_at.to_sqlx()).collect::<Vec<_>>());
    query.push("::timestamptz[]) with ordinality as m (at, known_at, place))");
}

/// Writes which nodes were of the fleet at each moment, and where each was placed: `placed (moment, at, known_at, id, no, name, state, placement)`: the times too, since joining them again would have the database misjudge how many rows there are.
pub(super) fn push_placed(query: &mut QueryBuilder<Postgres>, narrowing: &Narrowing, moments: &[Moment]) {
    push_moments(query, moments);
    query.push(", placed as materialized (");
    if is_now(moments) {
        query.push(
            "select m.id as moment, m.at, m.known_at, node.id, node.no, node.name, w.state, w.placement
            from node join node_life l on l.node = node.no and l.until_at is null cross join moment m",
        );
        narrowing.push_beside(query);
        query.push(" left join node_wanted w on w.node = node.id where ");
        narrowing.push(query);
    } else {
        push_placed_rows(query, narrowing);
    }
    query.push(")");
}

/// Writes the statement that selects them at any moments.
fn push_placed_rows(query: &mut QueryBuilder<Postgres>, narrowing: &Narrowing) {
    query.push(
        "select distinct on (m.id, node.no) m.id as moment, m.at, m.known_at, node.id, node.no, node.name, c.state, c.placement
            from node join node_life l on l.node = node.no cross join moment m",
    );
    narrowing.push_beside(query);
    query.push(
        " left join (change_node c join change h on h.no = c.change and h.status = 'handed_out') on c.node = node.id and h.ended_at <= m.at
            where l.from_at <= m.at and (l.until_at is null or m.at < l.until_at) and ",
    );
    narrowing.push(query);
    query.push(" order by m.id, node.no, h.ended_at desc, h.no desc");
}

/// What deviates at each moment, what is in doubt, and of which nodes nothing is known.
pub(super) const DEVIATING_THEN: &str = ", deviating as materialized (
        select m.id as moment, d.id, d.node, d.desired, d.cause, d.from_at from deviation d cross join moment m
        where d.from_at <= m.at and d.learned_at <= m.known_at and (d.until_at is null or m.at < d.until_at or m.known_at < d.until_learned_at)
    ), doubted as materialized (
        select distinct m.id as moment, b.node, b.desired
        from moment m cross join lateral (
            select node, desired from deviation_doubt where tstzrange(from_at, greatest(from_at, until_at)) @> m.at and learned_at <= m.known_at offset 0
        ) b where not exists (select from deviating d where d.moment = m.id and d.node = b.node and d.desired = b.desired)
    ), gaps as materialized (
        select m.id as moment, g.node from examination_gap g cross join moment m
            where g.from_at <= m.at and g.learned_at <= m.known_at and (m.at < g.until_at or m.known_at < g.until_learned_at)
        union select p.moment, p.no from placed p join node_now n on n.node = p.id
            where n.known_half_hour <= (select max(at) from moment) and n.known_until <= p.at and n.known_learned <= p.known_at
    )";

/// What the history says of the nodes: `known` has those of `placed`; nodes that are plain have only compliant clauses.
pub(super) const KNOWN: &str = ", known as materialized (
        select p.*, g.node is not null as is_gap, e.node is not null as is_examined,
            g.node is null and e.node is not null and s.node is null as is_plain
        from placed p left join gaps g on g.moment = p.moment and g.node = p.no
            left join examined_state e on e.node = p.no and e.state = p.state and e.from_at <= p.at and e.learned_at <= p.known_at
            left join (select moment, node from deviating union select moment, node from doubted) s on s.moment = p.moment and s.node = p.no
        where p.state is not null
    )";

/// How long what is newly desired may wait, by severity; and of single releases.
pub(super) const DUE: &str = ", due as materialized (
        select m.id as moment, usual.severity, make_interval(secs => coalesce((v.body #>> array['time_allowed_secs', usual.severity])::float8, usual.secs)) as span
        from moment m cross join (values ('low', 7776000), ('medium', 2592000), ('high', 604800), ('critical', 86400)) as usual (severity, secs)
            left join control_catalogue v on v.from_at <= m.at and (v.until_at is null or m.at < v.until_at)
    ), due_of_release as materialized (
        select m.id as moment, of_release.key as release, allowed.key as severity, make_interval(secs => allowed.value::float8) as span
        from moment m join control_catalogue v on v.from_at <= m.at and (v.until_at is null or m.at < v.until_at)
            cross join jsonb_each(v.body -> 'time_allowed_of_releases_secs') as of_release cross join jsonb_each_text(of_release.value) as allowed
    )";

/// How long the clause `c` of a node `k` may wait: the shortest time of its releases that have one of their own, or that of its severity.
pub(super) const SPAN: &str = "coalesce((select min(r.span) from due_of_release r where r.moment = k.moment and r.severity = c.severity and r.release = any (c.releases)),
                (select span from due where due.moment = k.moment and due.severity = c.severity))";

/// Returns what concessions cover on these nodes `k`: `covered (moment, no, address, also_unknown, concession)`.
pub(super) fn covered(nodes: &str) -> String {
    format!(
        ", covered as materialized (
        select k.moment, k.no, a.id as address, bool_or(c.covers_unknown) as also_unknown, min(c.no) as concession
        from ({nodes}) k join concession_node n on n.node = k.no and n.from_at <= k.at and (n.until_at is null or k.at < n.until_at)
            join concession c on c.no = n.concession and c.is_approved and c.decided_at <= k.at and k.at < coalesce(c.ended_at, c.until_at)
            join clause_address a on a.address like any (c.patterns)
        group by 1, 2, 3
    )"
    )
}

/// Writes what the history says of the nodes of `placed`.
pub(super) fn push_known(query: &mut QueryBuilder<Postgres>) {
    query.push(DEVIATING_THEN).push(KNOWN).push(DUE).push(covered("select * from known where not is_plain"));
}

/// The result of each clause on each node `k` that is not plain.
pub(super) fn status() -> String {
    format!("case when not k.is_examined
                    and not exists (select 1 from examined_clause e where e.node = k.no and e.desired = c.desired and e.from_at <= k.at and e.learned_at <= k.known_at)
                    and not exists (select 1 from examined_state e join effective_state o on o.id = e.state
                        where e.node = k.no and e.from_at <= k.at and e.learned_at <= k.known_at
                            and exists (select 1 from clause other where other.id = any(o.clauses) and other.desired = c.desired)) then 'unexamined'
                when k.is_gap then 'unknown' when d.node is null then 'compliant'
                when d.cause = 'waiting' and d.from_at + {SPAN} <= k.at then 'overdue' else coalesce(d.cause, 'unknown') end as status")
}

/// Whether a result is covered by a concession; `v` is the row of `covered`, if there is one.
pub(super) const IS_CONCEDED: &str = "case when v.no is null or status = 'compliant' then false
                    when status in ('unexamined', 'unknown') then v.also_unknown else true end";

/// How many keys of a dimension are shown at most.
pub const MAX_ROWS: usize = 1_000;

/// The results of the clauses of each node `k` that is not plain, with what `joined` adds.
pub(super) const DEVIATING: &str =
    "left join deviating d on d.moment = k.moment and d.node = k.no and d.desired = c.desired
                left join doubted b on b.moment = k.moment and b.node = k.no and b.desired = c.desired";

/// A change that was handed out.
#[derive(Debug, sqlx::FromRow)]
pub struct HandedOutRow {
    /// Its number.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Who approved it.
    pub approved_by: Option<String>,
    /// When it was handed out.
    pub ended_at: SqlTimestamp,
}

/// Returns the changes with these numbers.
pub async fn changes(db: impl PgExecutor<'_>, numbers: &[i64]) -> sqlx::Result<Vec<HandedOutRow>> {
    sqlx::query_as(include_str!("sql/compliance/changes.sql")).bind(numbers).fetch_all(db).await
}

/// Returns the changes that were handed out in a period and gave nodes another state; at most 500, the last ones.
pub async fn changes_between(
    db: impl PgExecutor<'_>,
    from: Timestamp,
    until: Timestamp,
) -> sqlx::Result<Vec<HandedOutRow>> {
    sqlx::query_as(include_str!("sql/compliance/changes_between.sql"))
        .bind(from.to_sqlx())
        .bind(until.to_sqlx())
        .fetch_all(db)
        .await
}
