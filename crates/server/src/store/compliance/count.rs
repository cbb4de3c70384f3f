//! Counts clauses and nodes: all of a state's clauses on all its nodes at once, less what is otherwise on the few nodes where anything
//! is.

use super::{
    CountedRow, DEVIATING_THEN, DUE, Dimension, IS_CONCEDED, MAX_ROWS, Moment, OnlyClauses, SPAN, covered,
    is_now, push_moments, push_placed_rows, status,
};
use crate::store::narrowing::Narrowing;
use jiff_sqlx::ToSqlx as _;
use sqlx::{Acquire, PgConnection, Postgres, QueryBuilder};

/// What was counted at one or more moments.
#[derive(Debug, Default)]
pub struct Counted {
    /// All together, one row for each moment.
    pub all: Vec<CountedRow>,
    /// By the keys of the dimension, those with the most clauses that are not compliant first; one more than [`MAX_ROWS`] for each moment
    /// if there are more.
    pub rows: Vec<CountedRow>,
}

/// What the keys of a dimension are taken from, for rows `t`: what is joined, and the key.
struct Keys {
    joined: &'static str,
    key: &'static str,
    has_it: HasKey,
}

/// What decides which key a clause on a node has.
#[derive(Clone, Copy, PartialEq, Eq)]
enum HasKey {
    Node,
    Clause,
    /// Where the node is placed, and the clause.
    Both,
}

impl Keys {
    fn of(by: Option<&Dimension>) -> Self {
        let of_node = |joined, key| Self { joined, key, has_it: HasKey::Node };
        let of_clause = |joined, key| Self { joined, key, has_it: HasKey::Clause };
        match by {
            None => of_node("", "null::text"),
            Some(Dimension::Group) => of_node(
                " left join placement pl on pl.id = t.placement left join lateral jsonb_array_elements_text(pl.groups) as keyed (key) on true",
                "keyed.key",
            ),
            Some(Dimension::Assignment) => Self {
                joined: " left join placement pl on pl.id = t.placement
                    left join lateral (select e ->> 0 || ': ' || (e ->> 1) as key from jsonb_array_elements(pl.assignments) as e where e -> 2 ?| t.baselines) keyed on true",
                key: "keyed.key",
                has_it: HasKey::Both,
            },
            Some(Dimension::Stage) => {
                of_node(" left join placement pl on pl.id = t.placement", "nullif(pl.stage, '')")
            }
            Some(Dimension::Label(_) | Dimension::Node) => of_node("", "t.node_key"),
            Some(Dimension::Control) => {
                of_clause(" left join lateral unnest(t.satisfies) as keyed (key) on true", "keyed.key")
            }
            Some(Dimension::Baseline) => {
                of_clause(" left join lateral unnest(t.baselines) as keyed (key) on true", "keyed.key")
            }
            Some(Dimension::Release) => {
                of_clause(" left join lateral unnest(t.releases) as keyed (key) on true", "keyed.key")
            }
            Some(Dimension::Severity) => of_clause("", "t.severity"),
            Some(Dimension::Clause) => of_clause("", "t.address"),
            // That of what is compliant; the others have their own.
            Some(Dimension::Cause) => of_node("", "'compliant'"),
        }
    }
}

/// Writes the key of a node that is asked for by a label or by its name; none for other dimensions. `placed` says whether the node stands in
/// `placed p`, which has the moment.
fn push_node_key(query: &mut QueryBuilder<Postgres>, by: Option<&Dimension>, placed: bool) {
    match by {
        Some(Dimension::Label(label)) if placed => {
            query.push("labelled.value ->> ").push_bind(label.clone());
        }
        Some(Dimension::Label(label)) => {
            query.push("node.labels ->> ").push_bind(label.clone());
        }
        Some(Dimension::Node) => drop(query.push(if placed { "p.name" } else { "node.name" })),
        _ => drop(query.push("null::text")),
    }
}

/// Nodes as they are now, with where they are placed, and which of them are of the fleet: those whose life has not ended.
const NOW: &str = " from node left join node_wanted w on w.node = node.id";
const OF_FLEET: &str = " where node.retired_at is null and node.revoked_at is null and ";

/// All of them by where they are placed. Hardly any node that left still has something desired: they are taken away, rather than that
/// each one is looked up.
const ALL_NOW: &str = "with placed as (select state, placement, count(*) as nodes, bool_or(examined_state is distinct from state) as is_unsure
                from node_wanted where node not in (select id from node where retired_at is not null or revoked_at is not null) group by 1, 2)
        select 0 as moment, state, placement, null::text as node_key, nodes, is_unsure from placed
        union all select 0, null, null, null, (select count(*) from node_life where until_at is null) - (select coalesce(sum(nodes), 0) from placed)::bigint, false";

/// What deviates now and what is in doubt.
const DEVIATING_NOW: &str = ", deviating as materialized (
        select 0 as moment, d.node, d.desired, d.cause, d.from_at from deviation d where d.until_at is null
    ), doubted as materialized (
        select distinct m.id as moment, b.node, b.desired
        from moment m cross join lateral (select node, desired from deviation_doubt where tstzrange(from_at, greatest(from_at, until_at)) @> m.at offset 0) b
        where not exists (select from deviating d where d.moment = m.id and d.node = b.node and d.desired = b.desired)
    ), gaps as materialized (select 0 as moment, node.no as node from node_now n join node on node.id = n.node where n.known_half_hour <= ";

/// A node `k` whose every clause is unknown: nothing is known of it, each clause was examined before, and no concession covers that.
const IS_SILENT: &str = "k.is_gap and not k.is_unexamined and not exists (select from covered v where v.moment = k.moment and v.no = k.no and v.also_unknown)";

/// Nodes of which anything may be otherwise.
const SUSPECTS: &str = "(select moment, node as no from deviating union select moment, node from doubted
                union select moment, node from gaps union select moment, no from unexamined) s join moment m on m.id = s.moment";
const OF_SUSPECT: &str = " left join gaps g on g.moment = s.moment and g.node = s.no left join unexamined u on u.moment = s.moment and u.no = s.no";

/// Writes all nodes by where they are placed, `totals (moment, state, placement, node_key, nodes)`, and those of which anything may be otherwise,
/// `special (moment, at, known_at, no, state, placement, node_key, is_gap, is_unexamined)`: as they are now.
fn push_nodes_now(
    query: &mut QueryBuilder<Postgres>,
    narrowing: &Narrowing,
    now: Moment,
    by: Option<&Dimension>,
) {
    let (at, known_at) = (now.at.to_sqlx(), now.known_at.to_sqlx());
    query.push(DEVIATING_NOW).push_bind(at).push("::timestamptz and n.known_until <= ").push_bind(at);
    query.push("::timestamptz and n.known_learned <= ").push_bind(known_at);
    query.push("::timestamptz), totals as materialized (");
    let has_node_key = matches!(by, Some(Dimension::Label(_) | Dimension::Node));
    if matches!(narrowing, Narrowing::All) && !has_node_key {
        query.push(ALL_NOW);
    } else {
        query.push("select 0 as moment, w.state, w.placement, ");
        push_node_key(query, by, false);
        query.push(" as node_key, count(*) as nodes, bool_or(w.examined_state is distinct from w.state) as is_unsure").push(NOW);
        narrowing.push_beside(query);
        query.push(OF_FLEET);
        narrowing.push(query);
        query.push(" group by 1, 2, 3, 4");
    }
    query.push("), unexamined as materialized (select 0 as moment, node.no").push(NOW);
    narrowing.push_beside(query);
    query.push(OF_FLEET);
    // Looked for only if there may be any: of most nodes it is noted which state was examined last.
    query.push(
        "(select bool_or(is_unsure) from totals where state is not null) and w.state is not null and w.examined_state is distinct from w.state
            and not exists (select from examined_state e where e.node = node.no and e.state = w.state and e.from_at <= ",
    );
    query
        .push_bind(at)
        .push("::timestamptz and e.learned_at <= ")
        .push_bind(known_at)
        .push("::timestamptz) and ");
    narrowing.push(query);
    query.push(
        "), special as materialized (select s.moment, m.at, m.known_at, node.no, w.state, w.placement, ",
    );
    push_node_key(query, by, false);
    query
        .push(" as node_key, g.node is not null as is_gap, u.no is not null as is_unexamined from ")
        .push(SUSPECTS);
    query.push(" join node on node.no = s.no join node_wanted w on w.node = node.id");
    narrowing.push_beside(query);
    query.push(OF_SUSPECT).push(OF_FLEET).push("w.state is not null and ");
    narrowing.push(query);
    query.push(")");
}

/// Writes the same of any moments.
pub(super) fn push_nodes_then(
    query: &mut QueryBuilder<Postgres>,
    narrowing: &Narrowing,
    by: Option<&Dimension>,
) {
    query.push(", placed as materialized (");
    push_placed_rows(query, narrowing);
    query.push(")").push(DEVIATING_THEN).push(", chosen as materialized (select p.*, ");
    push_node_key(query, by, true);
    query.push(
        " as node_key, e.node is null as is_unexamined from placed p
            left join examined_state e on e.node = p.no and e.state = p.state and e.from_at <= p.at and e.learned_at <= p.known_at",
    );
    if let Some(Dimension::Label(_)) = by {
        query.push(
            // One at a time: the next one begins where it ends.
            " left join node_attribute labelled on labelled.node = p.id and labelled.name = 'labels' and labelled.from_at <= p.at and (labelled.until_at is null or p.at < labelled.until_at)
                and labelled.learned_at <= p.known_at and (labelled.superseded_at is null or p.known_at < labelled.superseded_at)",
        );
    }
    query.push("), totals as materialized (select moment, state, placement, node_key, count(*) as nodes from chosen group by 1, 2, 3, 4");
    query.push("), unexamined as materialized (select moment, no from chosen where is_unexamined and state is not null");
    query.push("), special as materialized (select p.moment, p.at, p.known_at, p.no, p.state, p.placement, p.node_key, g.node is not null as is_gap, p.is_unexamined from ");
    query.push(SUSPECTS).push(" join chosen p on p.moment = s.moment and p.no = s.no").push(OF_SUSPECT);
    query.push(" where p.state is not null)");
}

/// Writes the clauses of every state that a node has, as far as they are asked about.
pub(super) fn push_clauses(query: &mut QueryBuilder<Postgres>, only: Option<&OnlyClauses>) {
    query.push(
        ", state_clause as materialized (
        select s.id as state, c.id, c.desired, c.severity, c.satisfies, c.baselines, c.releases, a.id as address_no, a.address
        from (select distinct state from totals where state is not null) t join effective_state s on s.id = t.state cross join unnest(s.clauses) as listed (id)
            join clause c on c.id = listed.id and c.is_counted join desired_clause u on u.id = c.desired join clause_address a on a.id = u.address",
    );
    if let Some(only) = only {
        only.push(query.push(" where "));
    }
    query.push(")");
}

/// What is not plainly compliant: `result (moment, no, state, placement, node_key, clause, severity, address_no, is_in_doubt, found_status, is_conceded, status)`.
///
/// Of a node that was never examined as it is now, or whose concession also covers what is unknown, each clause is looked at by itself;
/// of others what deviates or is in doubt.
pub(super) fn results() -> String {
    const OF_ROW: &str =
        "k.moment, k.at, k.no, k.state, k.placement, k.node_key, c.id as clause, c.severity, c.address_no";
    // Joined before their clauses are looked for: otherwise every clause of each of these nodes would be.
    const EACH_ALONE: &str = "where not k.is_gap and not k.is_unexamined offset 0";
    let status = status();
    format!(
        ", mixed as materialized (
            select * from special k where k.is_unexamined or k.is_gap and exists (select from covered v where v.moment = k.moment and v.no = k.no and v.also_unknown)
        ), silent_node as materialized (select * from special k where {IS_SILENT}
        ), silent as materialized (select moment, state, placement, node_key, count(*) as nodes from silent_node group by 1, 2, 3, 4
        ), found as materialized (
            select {OF_ROW}, b.node is not null as is_in_doubt, {status}
                from (select *, not is_unexamined as is_examined from mixed) k join state_clause c on c.state = k.state
                    left join deviating d on d.moment = k.moment and d.node = k.no and d.desired = c.desired
                    left join doubted b on b.moment = k.moment and b.node = k.no and b.desired = c.desired
            union all
            select {OF_ROW}, false, case when k.cause = 'waiting' and k.from_at + {SPAN} <= k.at then 'overdue' else coalesce(k.cause, 'unknown') end
                from (select k.*, d.desired, d.cause, d.from_at from special k join deviating d on d.moment = k.moment and d.node = k.no {EACH_ALONE}) k
                    join state_clause c on c.state = k.state and c.desired = k.desired
            union all
            select {OF_ROW}, true, 'compliant'
                from (select k.*, b.desired from special k join doubted b on b.moment = k.moment and b.node = k.no {EACH_ALONE}) k
                    join state_clause c on c.state = k.state and c.desired = k.desired
        ), result as materialized (
            select f.moment, f.no, f.state, f.placement, f.node_key, f.clause, f.severity, f.address_no, f.is_in_doubt,
                status as found_status, is_conceded, case when is_conceded then 'conceded' else status end as status
            from (select f.*, {IS_CONCEDED} as is_conceded from found f left join covered v on v.moment = f.moment and v.no = f.no and v.address = f.address_no) f
            where f.status <> 'compliant' or f.is_in_doubt
        )"
    )
}

/// What is counted of the results of one key on one node.
const OF_NODE: &str = "count(*) filter (where status = 'compliant' and is_in_doubt) as in_doubt,
        count(*) filter (where status not in ('compliant', 'conceded', 'unexamined', 'unknown')) as noncompliant,
        count(*) filter (where status not in ('compliant', 'conceded', 'unexamined', 'unknown') and severity = 'critical') as critical,
        count(*) filter (where status = 'conceded') as conceded,
        count(*) filter (where status = 'unexamined') as unexamined, count(*) filter (where status = 'unknown') as unknown,
        count(*) filter (where status <> 'compliant') as otherwise";

/// What is counted of the nodes of one key, apart from what is compliant.
const OF_KEY: &str = "sum(in_doubt) as in_doubt, sum(noncompliant) as noncompliant, sum(conceded) as conceded, sum(unexamined) as unexamined, sum(unknown) as unknown,
        count(*) filter (where noncompliant > 0) as nodes_deviating, count(*) filter (where critical > 0) as nodes_critical,
        count(*) filter (where noncompliant = 0 and unexamined + unknown > 0) as nodes_not_known,
        count(*) filter (where noncompliant + unexamined + unknown = 0 and conceded > 0) as nodes_conceded";

/// What is worst comes first.
const ORDER: &str = "order by moment, sum(noncompliant) desc, sum(unexamined + unknown) desc, key nulls last";

const COUNTS: [&str; 11] = [
    "compliant",
    "in_doubt",
    "noncompliant",
    "conceded",
    "unexamined",
    "unknown",
    "nodes_compliant",
    "nodes_deviating",
    "nodes_critical",
    "nodes_not_known",
    "nodes_conceded",
];

/// Returns what counts by the keys of a dimension, as `counted_NAME (moment, key, …)`: all clauses of all nodes as compliant, then what silent nodes
/// and results take from that.
pub(super) fn counted(name: &str, by: Option<&Dimension>) -> String {
    let Keys { joined, key, has_it } = Keys::of(by);
    // How many clauses of a state have a key: a node's, or each their own.
    let size = match has_it {
        HasKey::Node => "select state, null::text as key, count(*) as clauses from state_clause t group by 1".to_owned(),
        HasKey::Clause => format!("select state, key, count(*) as clauses from clause_key_{name} group by 1, 2"),
        HasKey::Both => format!(
            "select t.state, t.placement, {key} as key, count(*) as clauses
                from (select p.placement, c.* from (select distinct state, placement from totals) p join state_clause c on c.state = p.state) t{joined} group by 1, 2, 3"
        ),
    };
    let of_nodes = |nodes: &str| {
        let (key, joined) = match has_it {
            HasKey::Node => (key, joined),
            HasKey::Clause => ("z.key", ""),
            HasKey::Both => ("z.key", " and z.placement is not distinct from t.placement"),
        };
        format!(
            "select t.moment, {key} as key, t.nodes, z.clauses from {nodes} t join size_{name} z on z.state = t.state{joined}"
        )
    };
    let (of_all, of_silent) = (of_nodes("totals"), of_nodes("silent"));
    let by_cause = by == Some(&Dimension::Cause);
    // By cause the silent are unknown, and what is otherwise is where it belongs.
    let silent_key = if by_cause { "'unknown'" } else { "key" };
    // What a clause is keyed by is found once for each clause of each state, and not for each result.
    let clause_keys = match has_it {
        HasKey::Clause => {
            format!(
                ", clause_key_{name} as materialized (select t.state, t.id as clause, {key} as key from state_clause t{joined})"
            )
        }
        HasKey::Node | HasKey::Both => String::new(),
    };
    let (results, result_key) = match has_it {
        HasKey::Node => (
            format!("result t{}", if by_cause { "" } else { joined }),
            if by_cause { "t.status" } else { key },
        ),
        HasKey::Clause => (
            format!("result t join clause_key_{name} y on y.state = t.state and y.clause = t.clause"),
            "y.key",
        ),
        HasKey::Both => (
            format!(
                "(select r.*, c.baselines from result r join state_clause c on c.state = r.state and c.id = r.clause) t{joined}"
            ),
            key,
        ),
    };
    let less = if by_cause {
        format!(
            "select moment, 'compliant' as key, -sum(otherwise) as compliant, -count(*) filter (where otherwise = clauses) as nodes
                from (select t.moment, t.no, z.clauses, count(*) filter (where status <> 'compliant') as otherwise from result t join size_{name} z on z.state = t.state group by 1, 2, 3) o group by 1"
        )
    } else {
        format!(
            "select moment, key, -sum(otherwise) as compliant, -count(*) filter (where otherwise > 0) as nodes from of_node_{name} group by 1, 2"
        )
    };
    format!(
        "{clause_keys}, size_{name} as materialized ({size}
        ), of_node_{name} as materialized (
            select t.moment, t.no, {result_key} as key, {OF_NODE} from {results} group by 1, 2, 3
        ), counted_{name} as (
            select moment, key, sum(nodes * clauses) as compliant, 0::numeric as in_doubt, 0::numeric as noncompliant, 0::numeric as conceded, 0::numeric as unexamined, 0::numeric as unknown,
                    sum(nodes) as nodes_compliant, 0::bigint as nodes_deviating, 0::bigint as nodes_critical, 0::numeric as nodes_not_known, 0::bigint as nodes_conceded
                from ({of_all}) t group by 1, 2
            union all select moment, key, -sum(nodes * clauses), 0, 0, 0, 0, 0, -sum(nodes), 0, 0, 0, 0 from ({of_silent}) t group by 1, 2
            union all select moment, {silent_key}, 0, 0, 0, 0, 0, sum(nodes * clauses), 0, 0, 0, sum(nodes), 0 from ({of_silent}) t group by 1, 2
            union all select moment, key, compliant, 0, 0, 0, 0, 0, nodes, 0, 0, 0, 0 from ({less}) t
            union all select moment, key, 0, in_doubt, noncompliant, conceded, unexamined, unknown, 0, nodes_deviating, nodes_critical, nodes_not_known, nodes_conceded
                from (select moment, key, {OF_KEY} from of_node_{name} group by 1, 2) t
        )",
    )
}

/// Counts the clauses and nodes of a list at each moment, all together and by the keys of a dimension; only some clauses, if that is
/// asked.
pub async fn count(
    db: impl Acquire<'_, Database = Postgres>,
    narrowing: &Narrowing,
    moments: &[Moment],
    by: Option<&Dimension>,
    only: Option<&OnlyClauses>,
) -> sqlx::Result<Counted> {
    let mut query = statement(narrowing, moments, by, only);
    let mut reading = db.begin().await?;
    if !is_now(moments) {
        expect_many_rows(&mut reading).await?;
    }
    let rows: Vec<CountedRow> = query.build_query_as().persistent(false).fetch_all(&mut *reading).await?;
    reading.rollback().await?;
    let (all, rows) = rows.into_iter().partition(|row| row.is_all);
    Ok(Counted { all, rows })
}

/// The dimensions by which figures of days are kept: those that [`OnlyClauses`] asks about.
const KEPT: [(&str, Dimension); 4] = [
    ("control", Dimension::Control),
    ("baseline", Dimension::Baseline),
    ("release", Dimension::Release),
    ("severity", Dimension::Severity),
];

/// What was counted of a key of a dimension; `all` is the dimension of all together.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct KeptRow {
    /// The dimension.
    pub dimension: String,
    /// What was counted.
    #[sqlx(flatten)]
    pub counted: CountedRow,
}

/// Counts all clauses of all nodes at each moment, all together and by every dimension whose figures of days are kept.
pub async fn count_to_keep(
    db: impl Acquire<'_, Database = Postgres>,
    moments: &[Moment],
) -> sqlx::Result<Vec<KeptRow>> {
    let mut query = QueryBuilder::new("");
    push_moments(&mut query, moments);
    push_nodes_then(&mut query, &Narrowing::All, None);
    push_clauses(&mut query, None);
    query.push(DUE).push(covered("select * from special")).push(results()).push(counted("all", None));
    for (name, by) in &KEPT {
        query.push(counted(name, Some(by)));
    }
    query.push(format!(" select 'all' as dimension, counted.* from ({}) counted", count_all()));
    for (name, _) in KEPT {
        query.push(format!(
            " union all (select '{name}', moment, key, false, 0::bigint, {} from counted_{name} group by moment, key
                having sum(compliant + noncompliant + conceded + unexamined + unknown) > 0)",
            sums()
        ));
    }
    let mut reading = db.begin().await?;
    expect_many_rows(&mut reading).await?;
    let rows = query.build_query_as().persistent(false).fetch_all(&mut *reading).await?;
    reading.rollback().await?;
    Ok(rows)
}

/// Has PostgreSQL expect many rows until the transaction ends. Of parts of a statement that read others it expects hardly any, and would
/// go through all of one part for each row of another. All nodes of a large fleet at two moments are sorted in memory.
pub(super) async fn expect_many_rows(reading: &mut PgConnection) -> sqlx::Result<()> {
    sqlx::query("set local enable_nestloop = off").execute(&mut *reading).await?;
    sqlx::query("set local work_mem = '64MB'").execute(reading).await.map(|_| ())
}

/// Returns the statement that counts all together: a row for each moment.
pub(super) fn count_all() -> String {
    format!(
        "select m.id as moment, null::text as key, true as is_all, (select coalesce(sum(nodes), 0)::bigint from totals t where t.moment = m.id) as nodes_in_all, counts.*
            from moment m cross join lateral (select {} from counted_all c where c.moment = m.id) counts",
        sums()
    )
}

fn sums() -> String {
    COUNTS.map(|count| format!("coalesce(sum({count}), 0)::bigint as {count}")).join(", ")
}

fn statement(
    narrowing: &Narrowing,
    moments: &[Moment],
    by: Option<&Dimension>,
    only: Option<&OnlyClauses>,
) -> QueryBuilder<Postgres> {
    let mut query = QueryBuilder::new("");
    push_moments(&mut query, moments);
    match moments {
        [now] if now.is_now => push_nodes_now(&mut query, narrowing, *now, by),
        _ => push_nodes_then(&mut query, narrowing, by),
    }
    push_clauses(&mut query, only);
    query.push(DUE).push(covered("select * from special")).push(results()).push(counted("all", None));
    let (of_all, sums) = (count_all(), sums());
    match by {
        None => drop(query.push(" ").push(of_all)),
        Some(_) => {
            query.push(counted("keyed", by)).push(format!(
                " ({of_all}) union all (select moment, key, false, 0::bigint, {sums} from counted_keyed group by moment, key
                    having sum(compliant + noncompliant + conceded + unexamined + unknown) > 0 {ORDER} limit {})",
                MAX_ROWS + 1
            ));
        }
    }
    query
}
