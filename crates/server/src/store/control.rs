//! The catalogue of controls, the nodes that its scopes select, and the machines that an inventory names.

use super::compliance::{Moment, push_placed};
use super::narrowing::Narrowing;
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor, Postgres, QueryBuilder};
use std::collections::BTreeMap;

/// A version of the catalogue.
#[derive(Debug, sqlx::FromRow)]
pub struct CatalogueRow {
    /// Its number.
    pub no: i64,
    /// Itself.
    pub body: Value,
    /// Who set it.
    pub set_by: String,
    /// Why.
    pub because: Option<String>,
    /// Since when it is valid.
    pub from_at: SqlTimestamp,
}

/// A version of the catalogue as it is listed.
#[derive(Debug, sqlx::FromRow)]
pub struct VersionRow {
    /// Its number.
    pub no: i64,
    /// Who set it.
    pub set_by: String,
    /// Why.
    pub because: Option<String>,
    /// Since when it is valid.
    pub from_at: SqlTimestamp,
    /// Until when it was.
    pub until_at: Option<SqlTimestamp>,
    /// How many controls and headings it has.
    pub controls: i64,
}

/// Returns the catalogue as it was valid at a moment.
pub async fn at(db: impl PgExecutor<'_>, at: Timestamp) -> sqlx::Result<Option<CatalogueRow>> {
    sqlx::query_as(include_str!("sql/control/at.sql")).bind(at.to_sqlx()).fetch_optional(db).await
}

/// Returns the versions, the newest first; at most 200.
pub async fn versions(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<VersionRow>> {
    sqlx::query_as(include_str!("sql/control/versions.sql")).fetch_all(db).await
}

/// Keeps others from setting the catalogue until the transaction ends.
pub async fn lock(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/control/lock.sql")).execute(db).await.map(|_| ())
}

/// Sets the catalogue from now on.
pub async fn set(db: &mut PgConnection, body: &Value, by: &str, because: Option<&str>) -> sqlx::Result<()> {
    let now = sql_now();
    sqlx::query(include_str!("sql/control/close.sql")).bind(now).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/control/set.sql"))
        .bind(body)
        .bind(by)
        .bind(because)
        .bind(now)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the scopes of the catalogue as it is now, and those that nodes are still noted to be in.
pub async fn scopes(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/control/scopes.sql")).fetch_all(db).await
}

/// Returns the scopes of the catalogue as it is now.
pub async fn scopes_now(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/control/scopes_now.sql")).fetch_all(db).await
}

/// Notes that these nodes are in a scope from now on, and no others. Returns how many came or went.
pub async fn put_in_scope(
    db: &mut PgConnection,
    scope: &str,
    nodes: Option<&Narrowing>,
) -> sqlx::Result<u64> {
    let now = sql_now();
    let mut left = QueryBuilder::new("update scope_node set until_at = ");
    left.push_bind(now).push(" where until_at is null and scope = ").push_bind(scope);
    if let Some(nodes) = nodes {
        left.push(" and node not in (select no from node where id in (");
        nodes.push_ids(&mut left);
        left.push("))");
    }
    let left = left.build().persistent(false).execute(&mut *db).await?.rows_affected();
    let Some(nodes) = nodes else { return Ok(left) };
    let mut came = QueryBuilder::new("insert into scope_node (scope, node, from_at) select ");
    came.push_bind(scope).push(", no, ").push_bind(now);
    came.push(" from node where retired_at is null and id in (");
    nodes.push_ids(&mut came);
    came.push(") on conflict do nothing");
    Ok(left + came.build().persistent(false).execute(db).await?.rows_affected())
}

/// Returns the ids that clauses name in `satisfies`, of all states that are stored.
pub async fn named(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/control/named.sql")).fetch_all(db).await
}

/// Returns the titles of controls at a moment, by id.
pub async fn titles(db: impl PgExecutor<'_>, at: Timestamp) -> sqlx::Result<BTreeMap<String, String>> {
    let rows: Vec<(String, String)> =
        sqlx::query_as(include_str!("sql/control/titles.sql")).bind(at.to_sqlx()).fetch_all(db).await?;
    Ok(rows.into_iter().collect())
}

/// How many nodes a control applies to.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ScopeRow {
    /// The control.
    pub id: String,
    /// Nodes in its scope.
    pub in_scope: i64,
    /// Of these, the ones without a clause that satisfies it.
    pub gaps: i64,
    /// Nodes with such a clause that are not in its scope.
    pub beyond: i64,
}

/// Writes, after the nodes of a moment, the controls of the catalogue, and of which of them each state has a clause: `valid (id, scope)`
/// and `state_control (state, control)`.
fn push_valid(query: &mut QueryBuilder<Postgres>, control: Option<&str>) {
    query.push(
        ", valid as (
            select c.id, c.scope from control c join control_catalogue v on v.no = c.catalogue cross join moment m
                where v.from_at <= m.at and (v.until_at is null or m.at < v.until_at)",
    );
    if let Some(control) = control {
        query.push(" and c.id = ").push_bind(control.to_owned());
    }
    query.push(
        "), state_control as materialized (
            select distinct s.id as state, satisfied.id as control
            from (select distinct state from placed) p join effective_state s on s.id = p.state cross join unnest(s.clauses) as listed (id)
                join clause c on c.id = listed.id and c.is_counted cross join unnest(c.satisfies) as satisfied (id)
                join valid v on v.id = satisfied.id
        )",
    );
}

/// The nodes of a moment that are in a scope.
const IN_SCOPE: &str = "scope_node n cross join moment m join placed p on p.no = n.node
                where n.from_at <= m.at and (n.until_at is null or m.at < n.until_at)";

/// Returns of each control of the catalogue how many nodes of a list it applied to at a moment, and how many of them had no clause.
pub async fn scope_counts(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
) -> sqlx::Result<Vec<ScopeRow>> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    push_valid(&mut query, None);
    query.push(format!(
        ", of_state as (select state, count(*) as nodes from placed group by state
        ), in_scope as (select n.scope, p.state, count(*) as nodes from {IN_SCOPE} group by n.scope, p.state
        ), whole as (select scope, sum(nodes) as nodes from in_scope group by scope union all select null, count(*) from placed
        ), with_clause as (select s.control, sum(c.nodes) as nodes from state_control s join of_state c on c.state = s.state group by s.control
        ), with_both as (
            select v.id, sum(c.nodes) as nodes from valid v join in_scope c on c.scope = v.scope join state_control s on s.state = c.state and s.control = v.id
                group by v.id
        ), counted as (
            select v.id, coalesce(w.nodes, 0) as in_scope, coalesce(a.nodes, 0) as with_clause,
                coalesce(case when v.scope is null then a.nodes else b.nodes end, 0) as with_both
            from valid v left join whole w on w.scope is not distinct from v.scope left join with_clause a on a.control = v.id left join with_both b on b.id = v.id
        )
        select id, in_scope::bigint, (in_scope - with_both)::bigint as gaps, (with_clause - with_both)::bigint as beyond from counted"
    ));
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// Returns the nodes of a list that a control applied to at a moment and that had no clause that satisfies it: the first of them by
/// name after one.
pub async fn gaps(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    moment: Moment,
    control: &str,
    (after, most): (&str, i64),
) -> sqlx::Result<Vec<String>> {
    let mut query = QueryBuilder::new("");
    push_placed(&mut query, narrowing, &[moment]);
    push_valid(&mut query, Some(control));
    query.push(format!(
        ", in_scope as (select n.scope, n.node from {IN_SCOPE})
        select p.name from placed p cross join valid v
            where (v.scope is null or p.no in (select node from in_scope where scope = v.scope)) and not exists (select 1 from state_control s where s.state = p.state)
                and p.name > "
    ));
    query.push_bind(after.to_owned()).push(" order by p.name limit ").push_bind(most);
    query.build_query_scalar().persistent(false).fetch_all(db).await
}

/// A machine that an inventory names.
#[derive(Debug, sqlx::FromRow)]
pub struct AssetRow {
    /// Its name.
    pub name: String,
    /// What else the inventory says of it.
    pub fields: Value,
    /// Whether a node of this name is of the fleet.
    pub is_enrolled: bool,
}

/// Replaces the list of machines.
pub async fn set_assets(
    db: &mut PgConnection,
    by: &str,
    names: &[String],
    fields: &[Value],
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/control/set_assets_delete_asset.sql")).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/control/set_assets_insert_asset.sql"))
        .bind(names)
        .bind(fields)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/control/set_assets_insert_asset_list.sql"))
        .bind(by)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the machines of the list by name after one, only those that never joined if that is asked.
pub async fn assets(
    db: impl PgExecutor<'_>,
    never_enrolled: bool,
    (after, most): (&str, i64),
) -> sqlx::Result<Vec<AssetRow>> {
    sqlx::query_as(include_str!("sql/control/assets.sql"))
        .bind(never_enrolled)
        .bind(after)
        .bind(most)
        .fetch_all(db)
        .await
}

/// Where the list of machines comes from, and how it compares with the fleet.
#[derive(Debug, sqlx::FromRow)]
pub struct AssetListRow {
    /// Who set it.
    pub set_by: String,
    /// When.
    pub set_at: SqlTimestamp,
    /// How many machines it names.
    pub assets: i64,
    /// How many of them are not of the fleet.
    pub never_enrolled: i64,
    /// How many nodes of the fleet it does not name.
    pub not_listed: i64,
}

/// Returns how the list of machines compares with the fleet; none if it was never set.
pub async fn asset_list(db: impl PgExecutor<'_>) -> sqlx::Result<Option<AssetListRow>> {
    sqlx::query_as(include_str!("sql/control/asset_list.sql")).fetch_optional(db).await
}
