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

/// Writes the result of each clause on each node at a moment, as `result (no, status, in_doubt, severity, key)`.
fn push_results(
    query: &mut QueryBuilder<Postgres>,
    narrowing: &Narrowing,
    moment: Moment,
    by: Option<&Dimension>,
) {
    query.push("with moment as (select ").push_bind(moment.at.to_sqlx()).push("::timestamptz as at, ");
    query.push_bind(moment.known_at.to_sqlx()).push("::timestamptz as known_at), ");
    push_nodes(query, narrowing);
    query.push(
        ", known as (
            select p.*, exists (select 1 from examination_gap g, moment m where g.node = p.no and g.from_at <= m.at and g.learned_at <= m.known_at
                        and (m.at < g.until_at or m.known_at < g.until_learned_at))
                    or exists (select 1 from node_now n, moment m where n.node = p.id and n.known_until <= m.at and n.known_learned <= m.known_at) as is_gap,
                exists (select 1 from examined_state e, moment m where e.node = p.no and e.state = p.state and e.from_at <= m.at and e.learned_at <= m.known_at) as is_examined
            from placed p
        ), result as (
            select k.no, c.severity, case
                    when not (k.is_examined or exists (select 1 from examined_clause e, moment m
                            where e.node = k.no and e.desired = c.desired and e.from_at <= m.at and e.learned_at <= m.known_at)
                        or exists (select 1 from examined_state e join effective_state s on s.id = e.state cross join moment m
                            where e.node = k.no and e.from_at <= m.at and e.learned_at <= m.known_at
                                and exists (select 1 from clause o where o.id = any(s.clauses) and o.desired = c.desired))) then 'unexamined'
                    when k.is_gap then 'unknown' when d.id is null then 'compliant' when d.cause is null then 'unknown' else d.cause end as status,
                exists (select 1 from deviation_doubt b, moment m where b.node = k.no and b.desired = c.desired and b.from_at <= m.at and m.at < b.until_at
                    and b.learned_at <= m.known_at) as is_in_doubt, ",
    );
    push_key(query, by);
    query.push(
        " as key
            from known k join effective_state s on s.id = k.state cross join unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted
                cross join moment m
                left join deviation d on d.node = k.no and d.desired = c.desired and d.from_at <= m.at and d.learned_at <= m.known_at
                    and (d.until_at is null or m.at < d.until_at or m.known_at < d.until_learned_at)",
    );
    push_beside(query, by);
    query.push(") ");
}

/// Writes which nodes were of the fleet at the moment, and where each was placed: `placed (id, no, name, state, placement)`.
fn push_nodes(query: &mut QueryBuilder<Postgres>, narrowing: &Narrowing) {
    query.push(
        "placed as materialized (
            select distinct on (node.id) node.id, node.no, node.name, c.state, c.placement
            from node join node_life l on l.node = node.no cross join moment m",
    );
    narrowing.push_beside(query);
    query.push(
        "
                left join (change_node c join change h on h.no = c.change and h.status = 'handed_out') on c.node = node.id and h.ended_at <= m.at
            where l.from_at <= m.at and (l.until_at is null or m.at < l.until_at) and ",
    );
    narrowing.push(query);
    query.push(" order by node.id, h.ended_at desc, h.no desc)");
}

/// Writes the key of a clause on a node.
fn push_key(query: &mut QueryBuilder<Postgres>, by: Option<&Dimension>) {
    query.push(match by {
        None => "null::text",
        Some(Dimension::Control | Dimension::Baseline | Dimension::Release | Dimension::Group) => "keyed.key",
        Some(Dimension::Severity) => "c.severity",
        Some(Dimension::Cause) => "null::text",
        Some(Dimension::Stage) => "nullif(pl.stage, '')",
        Some(Dimension::Label(_)) => "labelled.value",
        Some(Dimension::Node) => "k.name",
        Some(Dimension::Clause) => "named.address",
    });
}

/// Writes what the key is taken from.
fn push_beside(query: &mut QueryBuilder<Postgres>, by: Option<&Dimension>) {
    match by {
        None | Some(Dimension::Severity | Dimension::Node | Dimension::Cause) => {}
        Some(Dimension::Control) => {
            query.push(" left join lateral unnest(c.satisfies) as keyed (key) on true");
        }
        Some(Dimension::Baseline) => {
            query.push(" left join lateral unnest(c.baselines) as keyed (key) on true");
        }
        Some(Dimension::Release) => {
            query.push(" left join lateral unnest(c.releases) as keyed (key) on true");
        }
        Some(Dimension::Group) => {
            query.push(" left join placement pl on pl.id = k.placement left join lateral jsonb_array_elements_text(pl.groups) as keyed (key) on true");
        }
        Some(Dimension::Stage) => {
            query.push(" left join placement pl on pl.id = k.placement");
        }
        Some(Dimension::Clause) => {
            query.push(" join desired_clause w on w.id = c.desired join clause_address named on named.id = w.address");
        }
        Some(Dimension::Label(label)) => {
            query.push(" left join lateral (select a.value ->> ").push_bind(label.clone()).push(
                " as value from node_attribute a where a.node = k.id and a.name = 'labels' and a.from_at <= m.at and (a.until_at is null or m.at < a.until_at)
                    and a.learned_at <= m.known_at and (a.superseded_at is null or m.known_at < a.superseded_at) order by a.from_at desc limit 1) labelled on true",
            );
        }
    }
}

/// What is counted of the results of one key on one node.
const OF_NODE: &str = "count(*) filter (where status = 'compliant') as compliant, count(*) filter (where status = 'compliant' and is_in_doubt) as in_doubt,
        count(*) filter (where status not in ('compliant', 'unexamined', 'unknown')) as noncompliant,
        count(*) filter (where status not in ('compliant', 'unexamined', 'unknown') and severity = 'critical') as critical,
        count(*) filter (where status = 'unexamined') as unexamined, count(*) filter (where status = 'unknown') as unknown";

/// What is counted of the nodes of one key.
const OF_KEY: &str = "sum(compliant)::bigint as compliant, sum(in_doubt)::bigint as in_doubt, sum(noncompliant)::bigint as noncompliant,
        sum(unexamined)::bigint as unexamined, sum(unknown)::bigint as unknown,
        count(*) filter (where noncompliant = 0 and unexamined = 0 and unknown = 0) as nodes_compliant, count(*) filter (where noncompliant > 0) as nodes_deviating,
        count(*) filter (where critical > 0) as nodes_critical, count(*) filter (where noncompliant = 0 and unexamined + unknown > 0) as nodes_not_known";

/// How many keys of a dimension are shown at most.
pub const MAX_ROWS: usize = 1_000;

/// Counts the clauses and nodes of a list at a moment, by the keys of a dimension or all together: keys with the most clauses that
/// are not compliant first, and one more than [`MAX_ROWS`] if there are more.
pub async fn count(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
    by: Option<&Dimension>,
) -> sqlx::Result<Vec<CountedRow>> {
    let mut query = QueryBuilder::new("");
    push_results(&mut query, narrowing, moment, by);
    let key = if by == Some(&Dimension::Cause) { "status" } else { "key" };
    query.push(format!(
        ", of_node as (select no, {key} as key, {OF_NODE} from result group by no, {key})
         select key, {OF_KEY} from of_node group by key order by sum(noncompliant) desc, sum(unexamined + unknown) desc, key nulls last limit {}",
        MAX_ROWS + 1
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// Returns how many nodes of a list are of the fleet at a moment.
pub async fn nodes(db: impl PgExecutor<'_>, narrowing: &Narrowing, moment: Moment) -> sqlx::Result<i64> {
    let mut query = QueryBuilder::new("with moment as (select ");
    query.push_bind(moment.at.to_sqlx()).push("::timestamptz as at), ");
    push_nodes(&mut query, narrowing);
    query.push(" select count(*) from placed").build_query_scalar().persistent(false).fetch_one(db).await
}
