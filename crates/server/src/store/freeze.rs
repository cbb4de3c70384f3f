//! Freezes: set, listed, ended, and what each node is given of them.

use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor};
use std::collections::BTreeSet;
use uuid::Uuid;

/// A freeze that is in force.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct InForceRow {
    /// Its number.
    pub no: i64,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// Why it was set.
    pub because: String,
    /// The clauses that it is for; none for all.
    pub clauses: Vec<String>,
    /// Whether it is for all nodes.
    pub is_for_all: bool,
    /// Those of the nodes that were asked for that it is for otherwise.
    pub nodes: Vec<Uuid>,
}

impl InForceRow {
    /// Returns whether it is for this node, one of those that were asked for.
    pub fn is_for(&self, node: Uuid) -> bool {
        self.is_for_all || self.nodes.contains(&node)
    }
}

/// Returns the freezes that are in force for some of these nodes.
pub async fn in_force(db: impl PgExecutor<'_>, nodes: &[Uuid]) -> sqlx::Result<Vec<InForceRow>> {
    sqlx::query_as(
        "select * from (
             select no, until_at, because, clauses, is_for_all,
                 array(select n.node from freeze_node n where n.freeze_no = change_freeze.no and n.node = any($2) and not change_freeze.is_for_all) as nodes
             from change_freeze where ended_at is null and until_at > $1) f
         where is_for_all or cardinality(nodes) > 0 order by no",
    )
    .bind(sql_now())
    .bind(nodes)
    .fetch_all(db)
    .await
}

/// Returns the generation of the freezes as they are: the epoch, also that of a recovery that goes on, and the newest counter.
pub async fn generation(db: impl PgExecutor<'_>) -> sqlx::Result<(i64, i64)> {
    sqlx::query_as(
        "select greatest(fleet.epoch, (select epoch from recovery where ended_at is null)), coalesce((select max(counter) from change_freeze), 0) from fleet",
    )
    .fetch_one(db)
    .await
}

/// A freeze to be set.
pub struct NewFreeze<'a> {
    /// Who sets it.
    pub who: &'a str,
    /// Why.
    pub because: &'a str,
    /// The nodes; none for all.
    pub nodes: &'a [Uuid],
    /// The clauses; none for all.
    pub clauses: &'a BTreeSet<String>,
    /// Until when it lasts.
    pub until: Timestamp,
}

/// Sets a freeze and returns its number.
pub async fn add(db: &mut PgConnection, new: &NewFreeze<'_>) -> sqlx::Result<i64> {
    let no = sqlx::query_scalar(
        "insert into change_freeze (who, because, is_for_all, clauses, set_at, until_at) values ($1, $2, $3, $4, $5, $6) returning no",
    )
    .bind(new.who)
    .bind(new.because)
    .bind(new.nodes.is_empty())
    .bind(new.clauses.iter().map(String::as_str).collect::<Vec<_>>())
    .bind(sql_now())
    .bind(new.until.to_sqlx())
    .fetch_one(&mut *db)
    .await?;
    sqlx::query("insert into freeze_node (freeze_no, node) select $1, * from unnest($2::uuid[])")
        .bind(no)
        .bind(new.nodes)
        .execute(db)
        .await?;
    Ok(no)
}

/// Ends a freeze before its hour. Returns whether it was in force.
pub async fn end(db: impl PgExecutor<'_>, no: i64, by: &str, because: Option<&str>) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "update change_freeze set ended_at = $2, ended_by = $3, ended_because = $4, counter = nextval('freeze_counter')
         where no = $1 and ended_at is null and until_at > $2",
    )
    .bind(no)
    .bind(sql_now())
    .bind(by)
    .bind(because)
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// A freeze as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// Its number.
    pub no: i64,
    /// Who set it.
    pub who: String,
    /// Why.
    pub because: String,
    /// When it was set.
    pub set_at: SqlTimestamp,
    /// Until when it lasts.
    pub until_at: SqlTimestamp,
    /// When it was ended.
    pub ended_at: Option<SqlTimestamp>,
    /// By whom.
    pub ended_by: Option<String>,
    /// Whether it is for all nodes.
    pub is_for_all: bool,
    /// The nodes that it is for otherwise.
    pub nodes: Vec<String>,
    /// The clauses that it is for; none for all.
    pub clauses: Vec<String>,
    /// For how many nodes it is.
    pub of_nodes: i64,
    /// How many of them hold it.
    pub held_by: i64,
    /// When the last node that does not hold it checks in next; none if one is not expected.
    pub last_by: Option<SqlTimestamp>,
}

/// Returns the freezes that are in force, or also those that are over, or the one with this number, the newest first; at most 200.
pub async fn list(db: impl PgExecutor<'_>, also_over: bool, no: Option<i64>) -> sqlx::Result<Vec<ListedRow>> {
    sqlx::query_as(
        "select f.no, f.who, f.because, f.set_at, f.until_at, f.ended_at, f.ended_by, f.is_for_all, f.clauses,
             array(select node.name from freeze_node n join node on node.id = n.node where n.freeze_no = f.no order by node.name) as nodes,
             m.of_nodes, m.held_by, case when m.is_one_unknown then null else m.last_by end as last_by
         from change_freeze f, lateral (
             select count(*) as of_nodes, count(*) filter (where a.is_held) as held_by, max(n.promised_at) filter (where a.is_held is not true) as last_by,
                 coalesce(bool_or(n.promised_at is null) filter (where a.is_held is not true), false) as is_one_unknown
             from node join node_now n on n.node = node.id left join lateral (
                 select a.value -> 'freezes' @> jsonb_build_array(jsonb_build_object('no', f.no)) as is_held from node_attribute a
                 where a.node = node.id and a.name = 'freezes' and a.until_at is null and a.superseded_at is null) a on true
             where node.revoked_at is null and (f.is_for_all or exists (select 1 from freeze_node x where x.freeze_no = f.no and x.node = node.id))) m
         where case when $3::bigint is not null then f.no = $3 else $1 or f.ended_at is null and f.until_at > $2 end order by f.no desc limit 200",
    )
    .bind(also_over)
    .bind(sql_now())
    .bind(no)
    .fetch_all(db)
    .await
}

/// Returns how many freezes are in force.
pub async fn count(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar("select count(*) from change_freeze where ended_at is null and until_at > $1")
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Returns those of these addresses that no clause of a state has, patterns as `like` has them.
pub async fn unknown(
    db: impl PgExecutor<'_>,
    clauses: &[String],
    patterns: &[String],
) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(
        "select asked.clause from unnest($1::text[], $2::text[]) as asked (clause, pattern)
         where not exists (select 1 from clause where body ->> 'address' like asked.pattern escape '\\')",
    )
    .bind(clauses)
    .bind(patterns)
    .fetch_all(db)
    .await
}

/// A freeze that a node holds and this database does not know.
#[derive(Debug, sqlx::FromRow)]
pub struct ForgottenRow {
    /// How many nodes hold it.
    pub nodes: i64,
    /// One of them.
    pub node: String,
    /// Itself.
    pub held: serde_json::Value,
}

/// Returns the freezes that nodes hold and that this database does not know as they hold them: it was restored from before they
/// were set. At most 100.
pub async fn forgotten(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<ForgottenRow>> {
    sqlx::query_as(
        "select count(*) as nodes, min(node.name) as node, (array_agg(held.body))[1] as held
         from node_attribute a join node on node.id = a.node and node.retired_at is null, jsonb_array_elements(a.value -> 'freezes') as held (body)
         where a.name = 'freezes' and a.until_at is null and a.superseded_at is null
             and not exists (select 1 from change_freeze f where f.no = (held.body ->> 'no')::bigint and f.because = held.body ->> 'because')
         group by held.body ->> 'no', held.body ->> 'because' order by 1 desc limit 100",
    )
    .fetch_all(db)
    .await
}
