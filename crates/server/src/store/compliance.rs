//! Compliance, counted from the history: of any moment, and as far as it was known at any moment.

use super::narrowing::Narrowing;
use constans_core::compliance::{ClauseCounts, ClauseStatus, Moved, NodeCounts};
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
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

/// Clauses and nodes of one key of a dimension, or of all, at one of the moments that are asked about.
#[derive(Debug, Clone, Default, PartialEq, Eq, sqlx::FromRow)]
pub struct CountedRow {
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
                        " as value from node_attribute a where a.node = k.id and a.name = 'labels' and a.from_at <= k.at and (a.until_at is null or k.at < a.until_at)
                            and a.learned_at <= k.known_at and (a.superseded_at is null or k.known_at < a.superseded_at) order by a.from_at desc limit 1) labelled on true",
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
                " join desired_clause u on u.id = c.desired join clause_address named on named.id = u.address",
                "named.address",
            ),
            Self::Severity => ("", "c.severity"),
            Self::Cause | Self::Group | Self::Stage | Self::Label(_) | Self::Node => return None,
        };
        Some(Keys { joined: vec![Part::Sql(joined)], key })
    }
}

/// Writes which nodes were of the fleet at each moment, and where each was placed: `placed (moment, at, known_at, id, no, name, state, placement)`: the times too, since joining them again would have the database misjudge how many rows there are.
pub(super) fn push_placed(query: &mut QueryBuilder<Postgres>, narrowing: &Narrowing, moments: &[Moment]) {
    let is_now = matches!(moments, [Moment { is_now: true, .. }]);
    query.push("with moment as (select (place - 1)::integer as id, at, known_at from unnest(");
    query.push_bind(moments.iter().map(|moment| moment.at.to_sqlx()).collect::<Vec<_>>());
    query.push("::timestamptz[], ");
    query.push_bind(moments.iter().map(|moment| moment.known_at.to_sqlx()).collect::<Vec<_>>());
    query.push(
        "::timestamptz[]) with ordinality as m (at, known_at, place)), placed as materialized (select ",
    );
    query.push(if is_now {
        "m.id as moment, m.at, m.known_at, node.id, node.no, node.name, w.state, w.placement"
    } else {
        "distinct on (m.id, node.id) m.id as moment, m.at, m.known_at, node.id, node.no, node.name, c.state, c.placement"
    });
    query.push(" from node join node_life l on l.node = node.no cross join moment m");
    narrowing.push_beside(query);
    query.push(if is_now {
        " left join node_wanted w on w.node = node.id"
    } else {
        " left join (change_node c join change h on h.no = c.change and h.status = 'handed_out') on c.node = node.id and h.ended_at <= m.at"
    });
    query.push(" where l.from_at <= m.at and (l.until_at is null or m.at < l.until_at) and ");
    narrowing.push(query);
    query.push(if is_now { ")" } else { " order by m.id, node.id, h.ended_at desc, h.no desc)" });
}

/// What the history says of the nodes: `known` has those of `placed`; nodes that are plain have only compliant clauses.
pub(super) const KNOWN: &str = ", deviating as materialized (
        select m.id as moment, d.id, d.node, d.desired, d.cause, d.from_at from deviation d cross join moment m
        where d.from_at <= m.at and d.learned_at <= m.known_at and (d.until_at is null or m.at < d.until_at or m.known_at < d.until_learned_at)
    ), doubted as materialized (
        select distinct m.id as moment, b.node, b.desired from deviation_doubt b cross join moment m
        where b.from_at <= m.at and m.at < b.until_at and b.learned_at <= m.known_at
    ), gaps as materialized (
        select m.id as moment, g.node from examination_gap g cross join moment m
            where g.from_at <= m.at and g.learned_at <= m.known_at and (m.at < g.until_at or m.known_at < g.until_learned_at)
        union select p.moment, p.no from placed p join node_now n on n.node = p.id where n.known_until <= p.at and n.known_learned <= p.known_at
    ), known as materialized (
        select p.*, g.node is not null as is_gap, e.node is not null as is_examined,
            g.node is null and e.node is not null and s.node is null as is_plain
        from placed p left join gaps g on g.moment = p.moment and g.node = p.no
            left join examined_state e on e.node = p.no and e.state = p.state and e.from_at <= p.at and e.learned_at <= p.known_at
            left join (select moment, node from deviating union select moment, node from doubted) s on s.moment = p.moment and s.node = p.no
        where p.state is not null
    ), due as materialized (
        select m.id as moment, usual.severity, make_interval(secs => coalesce((v.body #>> array['time_allowed_secs', usual.severity])::float8, usual.secs)) as span
        from moment m cross join (values ('low', 7776000), ('medium', 2592000), ('high', 604800), ('critical', 86400)) as usual (severity, secs)
            left join control_catalogue v on v.from_at <= m.at and (v.until_at is null or m.at < v.until_at)
    ), covered as materialized (
        select k.moment, k.no, a.id as address, bool_or(c.covers_unknown) as also_unknown, min(c.no) as concession
        from known k join concession_node n on n.node = k.no and n.from_at <= k.at and (n.until_at is null or k.at < n.until_at)
            join concession c on c.no = n.concession and c.is_approved and c.decided_at <= k.at and k.at < coalesce(c.ended_at, c.until_at)
            join clause_address a on a.address like any (c.patterns)
        where not k.is_plain group by 1, 2, 3
    )";

/// The result of each clause on each node `k` that is not plain.
pub(super) const STATUS: &str = "case when not k.is_examined
                    and not exists (select 1 from examined_clause e where e.node = k.no and e.desired = c.desired and e.from_at <= k.at and e.learned_at <= k.known_at)
                    and not exists (select 1 from examined_state e join effective_state o on o.id = e.state
                        where e.node = k.no and e.from_at <= k.at and e.learned_at <= k.known_at
                            and exists (select 1 from clause other where other.id = any(o.clauses) and other.desired = c.desired)) then 'unexamined'
                when k.is_gap then 'unknown' when d.node is null then 'compliant'
                when d.cause = 'waiting' and d.from_at + (select span from due where due.moment = k.moment and due.severity = c.severity) <= k.at then 'overdue' else coalesce(d.cause, 'unknown') end as status";

/// Whether a result is covered by a concession; `v` is the row of `covered`, if there is one.
pub(super) const IS_CONCEDED: &str = "case when v.no is null or status = 'compliant' then false
                    when status in ('unexamined', 'unknown') then v.also_unknown else true end";

/// What is counted of the results of one key on one node.
const OF_NODE: &str = "count(*) filter (where status = 'compliant') as compliant, count(*) filter (where status = 'compliant' and is_in_doubt) as in_doubt,
        count(*) filter (where status not in ('compliant', 'conceded', 'unexamined', 'unknown')) as noncompliant,
        count(*) filter (where status not in ('compliant', 'conceded', 'unexamined', 'unknown') and severity = 'critical') as critical,
        count(*) filter (where status = 'conceded') as conceded,
        count(*) filter (where status = 'unexamined') as unexamined, count(*) filter (where status = 'unknown') as unknown";

/// What is counted of the nodes of one key.
const OF_KEY: &str = "sum(compliant) as compliant, sum(in_doubt) as in_doubt, sum(noncompliant) as noncompliant, sum(conceded) as conceded,
        sum(unexamined) as unexamined, sum(unknown) as unknown,
        count(*) filter (where noncompliant + unexamined + unknown + conceded = 0) as nodes_compliant, count(*) filter (where noncompliant > 0) as nodes_deviating,
        count(*) filter (where critical > 0) as nodes_critical, count(*) filter (where noncompliant = 0 and unexamined + unknown > 0) as nodes_not_known,
        count(*) filter (where noncompliant + unexamined + unknown = 0 and conceded > 0) as nodes_conceded";

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

/// How many keys of a dimension are shown at most.
pub const MAX_ROWS: usize = 1_000;

/// The results of the clauses of each node `k` that is not plain, with what `joined` adds.
pub(super) const DEVIATING: &str =
    "left join deviating d on d.moment = k.moment and d.node = k.no and d.desired = c.desired
                left join doubted b on b.moment = k.moment and b.node = k.no and b.desired = c.desired";

/// Counts the clauses and nodes of a list at each moment, by the keys of a dimension or all together: keys with the most clauses that
/// are not compliant first, and one more than [`MAX_ROWS`] if there are more.
///
/// Plain nodes are counted by their states, whose clauses are looked at once each; the others clause by clause.
pub async fn count(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moments: &[Moment],
    by: Option<&Dimension>,
) -> sqlx::Result<Vec<CountedRow>> {
    let (of_node, of_clause) = (by.and_then(Dimension::of_node), by.and_then(Dimension::of_clause));
    let (of_node, of_clause) = (of_node.as_ref(), of_clause.as_ref());
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, moments);
    query.push(KNOWN);
    query.push(format!(", keyed as (select k.*, {} as node_key from known k", Keys::key(of_node)));
    Keys::push_joined(of_node, &mut query);
    let key = if of_node.is_some() { "k.node_key" } else { Keys::key(of_clause) };
    query.push(format!(
        "), found as (
            select k.moment, k.no, c.severity, w.address, {STATUS}, b.node is not null as is_in_doubt, {key} as key
            from keyed k join effective_state s on s.id = k.state cross join unnest(s.clauses) as listed (id)
                join clause c on c.id = listed.id and c.is_counted join desired_clause w on w.id = c.desired {DEVIATING}"
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
        ), result as (
            select f.moment, f.no, f.severity, f.is_in_doubt, f.key, case when {IS_CONCEDED} then 'conceded' else status end as status
            from found f left join covered v on v.moment = f.moment and v.no = f.no and v.address = f.address
        ), of_node as (select moment, no, {key} as key, {OF_NODE} from result group by moment, no, {key}
        ), plain_states as (select moment, state, node_key, count(*) as nodes from keyed where is_plain group by moment, state, node_key
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
            select moment, key, {OF_KEY} from of_node group by moment, key
            union all select p.moment, {plain_key}, sum(p.nodes * k.clauses), 0, 0, 0, 0, 0, sum(p.nodes), 0, 0, 0, 0
                from plain_states p join state_keys k on k.state = p.state group by 1, 2
        )
        select moment, key, {sums} from counted group by moment, key
            order by moment, sum(noncompliant) desc, sum(unexamined + unknown) desc, key nulls last limit {}",
        MAX_ROWS + 1
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// Clauses on nodes that count otherwise at a second moment, all for the same reason.
#[derive(Debug, sqlx::FromRow)]
pub struct MovedRow {
    /// Whether their nodes were of the fleet at the first moment.
    pub had_node: bool,
    /// Whether they were at the second.
    pub has_node: bool,
    /// What the clauses counted as at the first moment; none if they were not desired.
    pub status_before: Option<String>,
    /// What they counted as at the second.
    pub status_after: Option<String>,
    /// Whether they were conceded at the first moment.
    pub is_conceded_before: bool,
    /// Whether they were at the second.
    pub is_conceded_after: bool,
    /// Whether something else was desired.
    pub is_desired_otherwise: bool,
    /// The last change that altered what is desired.
    pub change: Option<i64>,
    /// Number of clauses on nodes.
    pub count: i64,
}

impl MovedRow {
    /// Returns what it counted as at both moments.
    ///
    /// # Errors
    ///
    /// Returns that a result is none of those that this version knows.
    pub fn moved(&self) -> serde_json::Result<Moved> {
        let status = |word: &Option<String>| -> serde_json::Result<Option<ClauseStatus>> {
            word.as_deref().map(|word| serde_json::from_value(word.into())).transpose()
        };
        Ok(Moved {
            has_node: [self.had_node, self.has_node],
            status: [status(&self.status_before)?, status(&self.status_after)?],
            is_conceded: [self.is_conceded_before, self.is_conceded_after],
            is_desired_otherwise: self.is_desired_otherwise,
            change: self.change,
        })
    }
}

/// The last change of a group `g` of nodes that altered what is desired at the address of `o`.
const ALTERED_BY: &str = "case when g.had_node and g.has_node and o.desired_before is distinct from o.desired_after then (
                select t.change from (select u.change, u.state, u.at, lag(u.state, 1, g.state_before) over (order by u.at) as state_before
                        from unnest(g.changes, g.states) with ordinality as u (change, state, at)) t
                    where (select w.id from effective_state s cross join unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted
                            join desired_clause w on w.id = c.desired where s.id = t.state and w.address = o.address)
                        is distinct from (select w.id from effective_state s cross join unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted
                            join desired_clause w on w.id = c.desired where s.id = t.state_before and w.address = o.address)
                    order by t.at desc limit 1) end";

/// Returns how the clauses of a list count at a second moment that count otherwise than at the first one.
///
/// Nodes that are plain at both are looked at together if they had the same states by the same changes.
pub async fn moved(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moments: [Moment; 2],
) -> sqlx::Result<Vec<MovedRow>> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &moments);
    query.push(KNOWN);
    let status = |of: &str| {
        format!(
            "case when o.desired_{of} is null then null when r_{of}.status is null then 'compliant'
                when r_{of}.status in ('compliant', 'unexamined', 'unknown') then r_{of}.status else 'noncompliant' end"
        )
    };
    let clauses_of = |state: &str| {
        format!(
            "select g.id, w.address, w.id as desired from of_interest g join effective_state s on s.id = g.{state}
                cross join unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted join desired_clause w on w.id = c.desired"
        )
    };
    query.push(format!(
        ", found as (
            select k.moment, k.no, c.desired, w.address, {STATUS} from known k join effective_state s on s.id = k.state cross join unnest(s.clauses) as listed (id)
                join clause c on c.id = listed.id and c.is_counted join desired_clause w on w.id = c.desired {DEVIATING} where not k.is_plain
        ), result as (
            select f.moment, f.no, f.desired, f.status, {IS_CONCEDED} as is_conceded
            from found f left join covered v on v.moment = f.moment and v.no = f.no and v.address = f.address
        ), altered as (
            select node.no, array_agg(c.change order by h.ended_at, h.no) as changes, array_agg(c.state order by h.ended_at, h.no) as states
            from change h join change_node c on c.change = h.no join node on node.id = c.node
            where h.status = 'handed_out' and h.ended_at > (select at from moment where id = 0) and h.ended_at <= (select at from moment where id = 1) group by node.no
        ), at_both as (
            select coalesce(b.no, a.no) as no, b.no is not null as had_node, a.no is not null as has_node, b.state as state_before, a.state as state_after
            from (select no, state from placed where moment = 0) b full join (select no, state from placed where moment = 1) a on a.no = b.no
        ), node_group as (
            select b.had_node, b.has_node, b.state_before, b.state_after, l.changes, l.states,
                case when kb.no is null and ka.no is null then null else b.no end as single, count(*) as nodes
            from at_both b left join altered l on l.no = b.no
                left join known kb on kb.moment = 0 and kb.no = b.no and not kb.is_plain left join known ka on ka.moment = 1 and ka.no = b.no and not ka.is_plain
            group by 1, 2, 3, 4, 5, 6, 7
        ), of_interest as materialized (
            select row_number() over () as id, * from node_group where single is not null or state_before is distinct from state_after or had_node <> has_node
        ), clause_before as ({}), clause_after as ({}
        ), on_node as (
            select coalesce(b.id, a.id) as id, coalesce(b.address, a.address) as address, b.desired as desired_before, a.desired as desired_after
            from clause_before b full join clause_after a on a.id = b.id and a.address = b.address
        )
        select had_node, has_node, status_before, status_after, is_conceded_before, is_conceded_after, is_desired_otherwise, change, sum(nodes)::bigint as count from (
            select g.had_node, g.has_node, {} as status_before, {} as status_after,
                coalesce(r_before.is_conceded, false) as is_conceded_before, coalesce(r_after.is_conceded, false) as is_conceded_after, coalesce(o.desired_before <> o.desired_after, false) as is_desired_otherwise,
                {ALTERED_BY} as change, g.nodes
            from on_node o join of_interest g on g.id = o.id
                left join result r_before on r_before.moment = 0 and r_before.no = g.single and r_before.desired = o.desired_before
                left join result r_after on r_after.moment = 1 and r_after.no = g.single and r_after.desired = o.desired_after
        ) each where status_before is distinct from status_after or is_conceded_before <> is_conceded_after group by 1, 2, 3, 4, 5, 6, 7, 8",
        clauses_of("state_before"),
        clauses_of("state_after"),
        status("before"),
        status("after"),
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

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

/// Returns how many nodes of a list are of the fleet at a moment.
pub async fn nodes(db: impl PgExecutor<'_>, narrowing: &Narrowing, moment: Moment) -> sqlx::Result<i64> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    query.push(" select count(*) from placed").build_query_scalar().persistent(false).fetch_one(db).await
}
