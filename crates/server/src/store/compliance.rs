//! Compliance, counted from the history: of any moment, and as far as it was known at any moment.

use super::narrowing::Narrowing;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx as _;
use sqlx::{PgExecutor, Postgres, QueryBuilder};

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
    /// The stages of nodes.
    Stage,
    /// A label of nodes.
    Label(String),
    /// The nodes.
    Node,
    /// The addresses of clauses.
    Clause,
}

/// Clauses and nodes of one key of a dimension, or of all.
#[derive(Debug, Clone, Default, PartialEq, Eq, sqlx::FromRow)]
pub struct CountedRow {
    /// The key; none for clauses or nodes that have none, and for all.
    pub key: Option<String>,
    /// Clauses that are compliant.
    pub compliant: i64,
    /// Of these, in the window of a drift that was found later.
    pub in_doubt: i64,
    /// Clauses that are not compliant.
    pub noncompliant: i64,
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
    /// The other nodes: some of their clauses are unexamined or unknown.
    pub nodes_not_known: i64,
}

/// What a dimension's keys are taken from: what is joined, and the key.
struct Keys {
    joined: Vec<Part>,
    key: &'static str,
}

/// A part of a statement.
enum Part {
    Sql(&'static str),
    Value(String),
}

impl Keys {
    fn push_joined(this: Option<&Self>, query: &mut QueryBuilder<Postgres>) {
        for part in this.iter().flat_map(|keys| &keys.joined) {
            match part {
                Part::Sql(sql) => query.push(*sql),
                Part::Value(value) => query.push_bind(value.clone()),
            };
        }
    }

    fn key(this: Option<&Self>) -> &'static str {
        this.map_or("null::text", |keys| keys.key)
    }
}

impl Dimension {
    /// The keys of a node `k`, if they are the node's.
    fn of_node(&self) -> Option<Keys> {
        let (joined, key) = match self {
            Self::Group => (
                vec![Part::Sql(
                    " left join placement pl on pl.id = k.placement left join lateral jsonb_array_elements_text(pl.groups) as keyed (key) on true",
                )],
                "keyed.key",
            ),
            Self::Stage => {
                (vec![Part::Sql(" left join placement pl on pl.id = k.placement")], "nullif(pl.stage, '')")
            }
            Self::Label(label) => (
                vec![
                    Part::Sql(" left join lateral (select a.value ->> "),
                    Part::Value(label.clone()),
                    Part::Sql(
                        " as value from node_attribute a where a.node = k.id and a.name = 'labels' and a.from_at <= m.at and (a.until_at is null or m.at < a.until_at)
                            and a.learned_at <= m.known_at and (a.superseded_at is null or m.known_at < a.superseded_at) order by a.from_at desc limit 1) labelled on true",
                    ),
                ],
                "labelled.value",
            ),
            Self::Node => (Vec::new(), "k.name"),
            Self::Control | Self::Baseline | Self::Release | Self::Severity | Self::Cause | Self::Clause => {
                return None;
            }
        };
        Some(Keys { joined, key })
    }

    /// The keys of a clause `c`, if they are the clause's.
    fn of_clause(&self) -> Option<Keys> {
        let (joined, key) = match self {
            Self::Control => (" left join lateral unnest(c.satisfies) as keyed (key) on true", "keyed.key"),
            Self::Baseline => (" left join lateral unnest(c.baselines) as keyed (key) on true", "keyed.key"),
            Self::Release => (" left join lateral unnest(c.releases) as keyed (key) on true", "keyed.key"),
            Self::Clause => (
                " join desired_clause w on w.id = c.desired join clause_address named on named.id = w.address",
                "named.address",
            ),
            Self::Severity => ("", "c.severity"),
            Self::Cause | Self::Group | Self::Stage | Self::Label(_) | Self::Node => return None,
        };
        Some(Keys { joined: vec![Part::Sql(joined)], key })
    }
}

/// Writes which nodes were of the fleet at the moment, and where each was placed: `placed (id, no, name, state, placement)`.
fn push_placed(query: &mut QueryBuilder<Postgres>, narrowing: &Narrowing, moment: Moment) {
    query.push("with moment as (select ").push_bind(moment.at.to_sqlx()).push("::timestamptz as at, ");
    query
        .push_bind(moment.known_at.to_sqlx())
        .push("::timestamptz as known_at), placed as materialized (select ");
    query.push(if moment.is_now {
        "node.id, node.no, node.name, w.state, w.placement"
    } else {
        "distinct on (node.id) node.id, node.no, node.name, c.state, c.placement"
    });
    query.push(" from node join node_life l on l.node = node.no cross join moment m");
    narrowing.push_beside(query);
    query.push(if moment.is_now {
        " left join node_wanted w on w.node = node.id"
    } else {
        " left join (change_node c join change h on h.no = c.change and h.status = 'handed_out') on c.node = node.id and h.ended_at <= m.at"
    });
    query.push(" where l.from_at <= m.at and (l.until_at is null or m.at < l.until_at) and ");
    narrowing.push(query);
    query.push(if moment.is_now { ")" } else { " order by node.id, h.ended_at desc, h.no desc)" });
}

/// What the history says of the nodes: `known` has those of `placed`; nodes that are plain have only compliant clauses.
const KNOWN: &str = ", deviating as materialized (
        select d.node, d.desired, d.cause from deviation d cross join moment m
        where d.from_at <= m.at and d.learned_at <= m.known_at and (d.until_at is null or m.at < d.until_at or m.known_at < d.until_learned_at)
    ), doubted as materialized (
        select distinct b.node, b.desired from deviation_doubt b cross join moment m where b.from_at <= m.at and m.at < b.until_at and b.learned_at <= m.known_at
    ), gaps as materialized (
        select g.node from examination_gap g cross join moment m
            where g.from_at <= m.at and g.learned_at <= m.known_at and (m.at < g.until_at or m.known_at < g.until_learned_at)
        union select p.no from placed p join node_now n on n.node = p.id cross join moment m where n.known_until <= m.at and n.known_learned <= m.known_at
    ), known as materialized (
        select p.*, g.node is not null as is_gap, e.node is not null as is_examined, g.node is null and e.node is not null and s.node is null as is_plain
        from placed p cross join moment m left join gaps g on g.node = p.no
            left join examined_state e on e.node = p.no and e.state = p.state and e.from_at <= m.at and e.learned_at <= m.known_at
            left join (select node from deviating union select node from doubted) s on s.node = p.no
        where p.state is not null
    )";

/// The result of each clause on each node `k` that is not plain.
const STATUS: &str = "case when not k.is_examined
                    and not exists (select 1 from examined_clause e where e.node = k.no and e.desired = c.desired and e.from_at <= m.at and e.learned_at <= m.known_at)
                    and not exists (select 1 from examined_state e join effective_state o on o.id = e.state
                        where e.node = k.no and e.from_at <= m.at and e.learned_at <= m.known_at
                            and exists (select 1 from clause other where other.id = any(o.clauses) and other.desired = c.desired)) then 'unexamined'
                when k.is_gap then 'unknown' when d.node is null then 'compliant' else coalesce(d.cause, 'unknown') end as status";

/// What is counted of the results of one key on one node.
const OF_NODE: &str = "count(*) filter (where status = 'compliant') as compliant, count(*) filter (where status = 'compliant' and is_in_doubt) as in_doubt,
        count(*) filter (where status not in ('compliant', 'unexamined', 'unknown')) as noncompliant,
        count(*) filter (where status not in ('compliant', 'unexamined', 'unknown') and severity = 'critical') as critical,
        count(*) filter (where status = 'unexamined') as unexamined, count(*) filter (where status = 'unknown') as unknown";

/// What is counted of the nodes of one key.
const OF_KEY: &str = "sum(compliant) as compliant, sum(in_doubt) as in_doubt, sum(noncompliant) as noncompliant,
        sum(unexamined) as unexamined, sum(unknown) as unknown,
        count(*) filter (where noncompliant = 0 and unexamined = 0 and unknown = 0) as nodes_compliant, count(*) filter (where noncompliant > 0) as nodes_deviating,
        count(*) filter (where critical > 0) as nodes_critical, count(*) filter (where noncompliant = 0 and unexamined + unknown > 0) as nodes_not_known";

const COUNTS: [&str; 9] = [
    "compliant",
    "in_doubt",
    "noncompliant",
    "unexamined",
    "unknown",
    "nodes_compliant",
    "nodes_deviating",
    "nodes_critical",
    "nodes_not_known",
];

/// How many keys of a dimension are shown at most.
pub const MAX_ROWS: usize = 1_000;

/// Counts the clauses and nodes of a list at a moment, by the keys of a dimension or all together: keys with the most clauses that
/// are not compliant first, and one more than [`MAX_ROWS`] if there are more.
///
/// Plain nodes are counted by their states, whose clauses are looked at once each; the others clause by clause.
pub async fn count(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
    by: Option<&Dimension>,
) -> sqlx::Result<Vec<CountedRow>> {
    let (of_node, of_clause) = (by.and_then(Dimension::of_node), by.and_then(Dimension::of_clause));
    let (of_node, of_clause) = (of_node.as_ref(), of_clause.as_ref());
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, moment);
    query.push(KNOWN);
    query.push(format!(
        ", keyed as (select k.*, {} as node_key from known k cross join moment m",
        Keys::key(of_node)
    ));
    Keys::push_joined(of_node, &mut query);
    let key = if of_node.is_some() { "k.node_key" } else { Keys::key(of_clause) };
    query.push(format!(
        "), result as (
            select k.no, c.severity, {STATUS}, b.node is not null as is_in_doubt, {key} as key
            from keyed k cross join moment m join effective_state s on s.id = k.state cross join unnest(s.clauses) as listed (id)
                join clause c on c.id = listed.id and c.is_counted
                left join deviating d on d.node = k.no and d.desired = c.desired left join doubted b on b.node = k.no and b.desired = c.desired"
    ));
    Keys::push_joined(of_clause, &mut query);
    let by_cause = by == Some(&Dimension::Cause);
    let (key, plain_key) = match (by_cause, of_node.is_some()) {
        (true, _) => ("status", "'compliant'"),
        (false, true) => ("key", "p.node_key"),
        (false, false) => ("key", "k.key"),
    };
    query.push(format!(
        " where not k.is_plain
        ), of_node as (select no, {key} as key, {OF_NODE} from result group by no, {key}
        ), plain_states as (select state, node_key, count(*) as nodes from keyed where is_plain group by state, node_key
        ), state_keys as (
            select s.id as state, {} as key, count(*) as clauses
            from (select distinct state from plain_states) p join effective_state s on s.id = p.state cross join unnest(s.clauses) as listed (id)
                join clause c on c.id = listed.id and c.is_counted",
        Keys::key(of_clause)
    ));
    Keys::push_joined(of_clause, &mut query);
    let sums = COUNTS.map(|count| format!("sum({count})::bigint as {count}")).join(", ");
    query.push(format!(
        " group by 1, 2
        ), counted as (
            select key, {OF_KEY} from of_node group by key
            union all select {plain_key}, sum(p.nodes * k.clauses), 0, 0, 0, 0, sum(p.nodes), 0, 0, 0 from plain_states p join state_keys k on k.state = p.state group by 1
        )
        select key, {sums} from counted group by key
            order by sum(noncompliant) desc, sum(unexamined + unknown) desc, key nulls last limit {}",
        MAX_ROWS + 1
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// Returns how many nodes of a list are of the fleet at a moment.
pub async fn nodes(db: impl PgExecutor<'_>, narrowing: &Narrowing, moment: Moment) -> sqlx::Result<i64> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, moment);
    query.push(" select count(*) from placed").build_query_scalar().persistent(false).fetch_one(db).await
}
