//! How clauses count at a second moment that count otherwise than at a first one.

use super::count::{count_all, counted, expect_many_rows, push_clauses, push_nodes_then, results};
use super::{CountedRow, DUE, Moment, OnlyClauses, covered, push_moments};
use crate::store::narrowing::Narrowing;
use constans_core::compliance::{ClauseStatus, Moved};
use serde::Deserialize;
use sqlx::types::Json;
use sqlx::{Acquire, Postgres, QueryBuilder};

/// Clauses on nodes that count otherwise at a second moment, all for the same reason.
#[derive(Debug, Deserialize)]
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
    /// Whether it is desired at both moments, and only at one of them is one of the clauses that are asked about.
    pub is_other_clause: bool,
    /// The last change that altered what is desired, or which clauses it is one of.
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
            is_other_clause: self.is_other_clause,
            change: self.change,
        })
    }
}

/// The last change of a group `g` of nodes that altered what is desired at the address of `o`.
const ALTERED_BY: &str = "case when g.had_node and g.has_node and o.desired_before is distinct from o.desired_after then (
                select t.change from (select u.change, u.state, h.ended_at, h.no, lag(u.state, 1, g.state_before) over (order by h.ended_at, h.no) as state_before
                        from unnest(g.changes, g.states) as u (change, state) join change h on h.no = u.change) t
                    where (select case when o.is_other_clause then c.is_chosen::integer else c.desired end from step_clause c where c.state = t.state and c.address_no = o.address_no)
                        is distinct from (select case when o.is_other_clause then c.is_chosen::integer else c.desired end from step_clause c where c.state = t.state_before and c.address_no = o.address_no)
                    order by t.ended_at desc, t.no desc limit 1) end";

/// What nodes are compared by: all that are alike in it moved alike, apart from single results. None is written as -1, to be compared.
const PAIRS: &str = ", pair as materialized (
        select coalesce(b.id, a.id) as id, coalesce(b.no, a.no) as no, b.no is not null as had_node, a.no is not null as has_node, coalesce(b.state, -1) as state_before, coalesce(a.state, -1) as state_after
            from (select id, no, state from chosen where moment = 0) b full join (select id, no, state from chosen where moment = 1) a on a.no = b.no
    ), chain as materialized (
        select p.no, array_agg(c.change) as changes, array_agg(c.state) as states
            from change h join change_node c on c.change = h.no join pair p on p.id = c.node
            where h.status = 'handed_out' and h.ended_at > (select at from moment where id = 0) and h.ended_at <= (select at from moment where id = 1)
                and p.had_node and p.has_node and p.state_before <> p.state_after
            group by p.no
    ), alike as materialized (
        select p.no, p.had_node, p.has_node, p.state_before, p.state_after, b.no is not null as silent_before, a.no is not null as silent_after,
                coalesce(c.changes, '{}') as changes, coalesce(c.states, '{}') as states
            from pair p left join chain c on c.no = p.no left join silent_node b on b.moment = 0 and b.no = p.no left join silent_node a on a.moment = 1 and a.no = p.no
    ), node_group as materialized (
        select row_number() over () as id, g.* from (
            select had_node, has_node, state_before, state_after, silent_before, silent_after, changes, states, count(*) as nodes from alike group by 1, 2, 3, 4, 5, 6, 7, 8) g
    ), step_clause as materialized (
        select s.id as state, a.id as address_no, c.desired, IS_CHOSEN as is_chosen from (select distinct unnest(states || state_before || state_after) as state from node_group) t
            join effective_state s on s.id = t.state cross join unnest(s.clauses) as listed (id) join clause c on c.id = listed.id and c.is_counted join desired_clause u on u.id = c.desired join clause_address a on a.id = u.address
    ), of_group as materialized (
        select coalesce(b.id, a.id) as id, coalesce(b.address_no, a.address_no) as address_no, b.desired as desired_before, a.desired as desired_after, IS_OTHER as is_other_clause
            from (select g.id, g.state_after as other_state, c.address_no, c.desired from node_group g join state_clause c on c.state = g.state_before) b
                full join (select g.id, g.state_before as other_state, c.address_no, c.desired from node_group g join state_clause c on c.state = g.state_after) a on a.id = b.id and a.address_no = b.address_no
    ), of_all as materialized (
        select g.id, g.nodes, g.had_node, g.has_node, o.address_no, o.desired_before, o.desired_after, o.is_other_clause, ALTERED_BY as change,
                case when o.desired_before is null then null when g.silent_before then 'unknown' else 'compliant' end as status_before,
                case when o.desired_after is null then null when g.silent_after then 'unknown' else 'compliant' end as status_after
            from of_group o join node_group g on g.id = o.id
    ), single as materialized (
        select g.id, k.no, k.address_no from (select distinct no, address_no from result) k join alike l on l.no = k.no
            join node_group g using (had_node, has_node, state_before, state_after, silent_before, silent_after, changes, states)
    )";

/// How the clauses `o` of nodes that moved alike count.
const ALIKE: &str = "o.had_node, o.has_node, o.status_before, o.status_after, false as is_conceded_before, false as is_conceded_after,
            coalesce(o.desired_before <> o.desired_after, false) as is_desired_otherwise, o.is_other_clause, o.change";

/// Whether a clause that is asked about at one moment only, `b` or `a`, is desired at the other one too.
const IS_OTHER: &str = "case when b.desired is null then exists (select from step_clause c where c.state = a.other_state and c.address_no = a.address_no)
            when a.desired is null then exists (select from step_clause c where c.state = b.other_state and c.address_no = b.address_no) else false end";

/// A list at two moments.
#[derive(Debug, Default)]
pub struct Compared {
    /// All that counts at each of them.
    pub counted: Vec<CountedRow>,
    /// What counts otherwise at the second one.
    pub moved: Vec<MovedRow>,
}

/// Returns what counts at two moments, and how the clauses count that count otherwise at the second one.
///
/// Nodes that had the same states by the same changes moved alike; what single results say is put in place of that.
pub async fn compare(
    db: impl Acquire<'_, Database = Postgres>,
    narrowing: &Narrowing,
    moments: [Moment; 2],
    only: Option<&OnlyClauses>,
) -> sqlx::Result<Compared> {
    let mut query = statement(narrowing, moments, only);
    let mut reading = db.begin().await?;
    expect_many_rows(&mut reading).await?;
    let (Json(counted), Json(moved)) =
        query.build_query_as().persistent(false).fetch_one(&mut *reading).await?;
    reading.rollback().await?;
    Ok(Compared { counted, moved })
}

fn statement(
    narrowing: &Narrowing,
    moments: [Moment; 2],
    only: Option<&OnlyClauses>,
) -> QueryBuilder<Postgres> {
    let mut query = QueryBuilder::new("");
    push_moments(&mut query, &moments);
    push_nodes_then(&mut query, narrowing, None);
    push_clauses(&mut query, only);
    query.push(DUE).push(covered("select * from special")).push(results());
    // Whatever is asked about whole is so at both moments.
    let is_other = if only.is_some() { IS_OTHER } else { "false" };
    let pairs = PAIRS.replace("ALTERED_BY", ALTERED_BY).replace("IS_OTHER", is_other);
    let (before, after) = pairs.split_once("IS_CHOSEN").unwrap_or_default();
    query.push(before);
    match only {
        None => drop(query.push("true")),
        Some(only) => only.push(&mut query),
    }
    query.push(after);
    let status = |when: &str| {
        format!(
            "case when r_{when}.found_status is null then o.status_{when}
                when r_{when}.found_status in ('compliant', 'unexamined', 'unknown') then r_{when}.found_status else 'noncompliant' end"
        )
    };
    query.push(counted("all", None)).push(format!(
        " select (select jsonb_agg(c) from ({}) c) as counted, (select coalesce(jsonb_agg(m), '[]') from (
            select had_node, has_node, status_before, status_after, is_conceded_before, is_conceded_after, is_desired_otherwise, is_other_clause, change, sum(nodes)::bigint as count from (
            select {ALIKE}, o.nodes from of_all o
            union all select {ALIKE}, -1 from single s join of_all o on o.id = s.id and o.address_no = s.address_no
            union all select o.had_node, o.has_node, {}, {}, coalesce(r_before.is_conceded, false), coalesce(r_after.is_conceded, false),
                    coalesce(o.desired_before <> o.desired_after, false), o.is_other_clause, o.change, 1
                from single s join of_all o on o.id = s.id and o.address_no = s.address_no
                    left join result r_before on r_before.moment = 0 and r_before.no = s.no and r_before.address_no = s.address_no
                    left join result r_after on r_after.moment = 1 and r_after.no = s.no and r_after.address_no = s.address_no
        ) each where status_before is distinct from status_after or is_conceded_before <> is_conceded_after group by 1, 2, 3, 4, 5, 6, 7, 8, 9 having sum(nodes) <> 0) m) as moved",
        count_all(),
        status("before"),
        status("after"),
    ));
    query
}
