//! How clauses count at a second moment that count otherwise than at a first one.

use super::{DEVIATING, IS_CONCEDED, Moment, STATUS, push_known, push_placed};
use crate::store::narrowing::Narrowing;
use constans_core::compliance::{ClauseStatus, Moved};
use sqlx::{PgExecutor, QueryBuilder};

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
    push_known(&mut query);
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
