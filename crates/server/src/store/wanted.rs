//! The desired state of each node.

use super::narrowing::Narrowing;
use constans_core::rollout::Membership;
use constans_core::settings::AgentSettings;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor, QueryBuilder};
use uuid::Uuid;

/// A node with what resolving needs to know of it, and its desired state so far.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeViewRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: Value,
    /// What its agent reported about it.
    pub about: Value,
    /// What it is given by itself.
    pub own: Value,
    /// Whether its machine is that of a server.
    pub hosts_server: bool,
    /// The id of its state so far.
    pub state: Option<i64>,
    /// Its groups, stage and settings so far.
    pub placement: Option<i64>,
    /// The digest of its settings so far.
    pub settings_digest: Option<String>,
    /// Where its state comes from so far.
    pub sources: Option<i64>,
    /// Why its state could not be resolved so far.
    pub unusable: Option<String>,
    /// Its waves in rollouts whose last wave is not handed out.
    pub memberships: Json<Vec<Membership>>,
}

const NODE_VIEWS: &str = "select node.id, node.name, node.labels, node.about, node.own, node.hosts_server, w.state, w.placement, p.settings_digest, w.sources, w.unusable,
        coalesce((select jsonb_agg(jsonb_build_object('rollout', m.rollout, 'wave', m.wave, 'reached', r.reached)) from rollout_node m join rollout r on r.change = m.rollout
            where m.node = node.id and r.ended_at is null and r.reached < r.waves), '[]') as memberships
     from node left join node_wanted w on w.node = node.id left join placement p on p.id = w.placement where node.retired_at is null and ";

/// Returns nodes that were not retired after an id, in the order of their ids; only those of `only`, if that is given.
pub async fn node_views_after(
    db: impl PgExecutor<'_>,
    after: Option<Uuid>,
    only: Option<&[Uuid]>,
    most: i64,
) -> sqlx::Result<Vec<NodeViewRow>> {
    let meant = if only.is_some() { "node.id = any($3)" } else { "$3::uuid[] is null" };
    sqlx::query_as(AssertSqlSafe(format!("{NODE_VIEWS} node.id > $1 and {meant} order by node.id limit $2")))
        .bind(after.unwrap_or_default())
        .bind(most)
        .bind(only)
        .fetch_all(db)
        .await
}

/// Returns nodes of the fleet after a name, in the order of their names.
pub async fn of_fleet_after(
    db: impl PgExecutor<'_>,
    after: Option<&str>,
    most: i64,
) -> sqlx::Result<Vec<NodeViewRow>> {
    sqlx::query_as(AssertSqlSafe(format!(
        "{NODE_VIEWS} node.revoked_at is null and node.name > $1 order by node.name limit $2"
    )))
    .bind(after.unwrap_or_default())
    .bind(most)
    .fetch_all(db)
    .await
}

/// Returns those of these nodes that were not retired.
pub async fn node_views(db: impl PgExecutor<'_>, nodes: &[Uuid]) -> sqlx::Result<Vec<NodeViewRow>> {
    sqlx::query_as(AssertSqlSafe(format!("{NODE_VIEWS} node.id = any($1)"))).bind(nodes).fetch_all(db).await
}

/// Returns how many nodes each of these groups has, by its name; groups without nodes are left out.
pub async fn members(db: impl PgExecutor<'_>, groups: &[String]) -> sqlx::Result<Vec<(String, i64)>> {
    sqlx::query_as(include_str!("sql/wanted/members.sql")).bind(groups).fetch_all(db).await
}

/// Returns how many nodes were not retired.
pub async fn node_count(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/wanted/node_count.sql")).fetch_one(db).await
}

/// Returns the nodes whose inputs were edited by a transaction that a snapshot does not see: the edit was committed after it.
/// Retired ones are among them.
pub async fn edited_since(db: impl PgExecutor<'_>, snapshot: &str) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/wanted/edited_since.sql")).bind(snapshot).fetch_all(db).await
}

/// Locks a node until the transaction ends, so that what is resolved of it is resolved once.
pub async fn lock_node(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/wanted/lock_node.sql")).bind(node).execute(db).await.map(|_| ())
}

/// Records that a node reported something about itself that is not resolved yet.
pub async fn set_pending(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/wanted/set_pending.sql")).bind(node).execute(db).await.map(|_| ())
}

/// Notes that a node was resolved by itself. If that altered it, a change that is being prepared has to look at it again: what was
/// prepared of it compares with what it had before.
pub async fn set_resolved(db: impl PgExecutor<'_>, node: Uuid, is_altered: bool) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/wanted/set_resolved.sql"))
        .bind(node)
        .bind(is_altered)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns nodes that reported something about themselves that is not resolved yet; at most 100.
pub async fn pending(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/wanted/pending.sql")).fetch_all(db).await
}

/// What nodes of the same groups have in common.
pub struct NewPlacement<'a> {
    /// Its digest.
    pub digest: &'a str,
    /// The stage.
    pub stage: &'a str,
    /// The groups.
    pub groups: &'a Value,
    /// Which group assigns which baseline, with those that it includes: `[[group, baseline, [baseline, …]], …]`.
    pub assignments: &'a Value,
    /// The mode, as lists show it.
    pub mode: &'a str,
    /// The settings of the agents.
    pub settings: &'a Value,
    /// Their digest.
    pub settings_digest: &'a str,
    /// After this many seconds without a full run the runs are overdue.
    pub overdue_secs: i64,
}

/// Stores placements that are not stored yet, and returns the ids of all, by digest.
pub async fn placement_ids(
    db: &mut PgConnection,
    all: &[NewPlacement<'_>],
) -> sqlx::Result<Vec<(String, i64)>> {
    // In one order, so that two who store the same ones do not wait for each other.
    sqlx::query(include_str!("sql/wanted/placement_ids_insert_placement.sql"))
        .bind(all.iter().map(|new| new.digest).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.stage).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.groups).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.mode).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.settings).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.settings_digest).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.overdue_secs).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.assignments).collect::<Vec<_>>())
        .execute(&mut *db)
        .await?;
    let digests: Vec<&str> = all.iter().map(|new| new.digest).collect();
    sqlx::query_as(include_str!("sql/wanted/placement_ids_select_placement.sql"))
        .bind(digests)
        .fetch_all(db)
        .await
}

/// Stores sources of states that are not stored yet, and returns the ids of all, by digest.
pub async fn sources_ids(db: &mut PgConnection, all: &[(&str, &Value)]) -> sqlx::Result<Vec<(String, i64)>> {
    let (digests, bodies): (Vec<&str>, Vec<&Value>) = all.iter().copied().unzip();
    sqlx::query(include_str!("sql/wanted/sources_ids_insert_state_sources.sql"))
        .bind(&digests)
        .bind(bodies)
        .execute(&mut *db)
        .await?;
    sqlx::query_as(include_str!("sql/wanted/sources_ids_select_state_sources.sql"))
        .bind(digests)
        .fetch_all(db)
        .await
}

/// Returns the labels that nodes have, each with its values; at most 10,000.
pub async fn labels(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, Vec<String>)>> {
    sqlx::query_as(include_str!("sql/wanted/labels.sql")).fetch_all(db).await
}

/// What is desired of a node, as whoever places it wants to know it.
#[derive(Debug, sqlx::FromRow)]
pub struct OutcomeRow {
    /// Its groups, the lowest first.
    pub groups: Value,
    /// Its stage.
    pub stage: String,
    /// Its mode.
    pub mode: String,
    /// How many clauses are desired of it.
    pub clauses: Option<i32>,
    /// Why its state cannot be resolved.
    pub unusable: Option<String>,
}

/// Returns what is desired of a node; none if nothing was resolved of it.
pub async fn outcome(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<OutcomeRow>> {
    sqlx::query_as(include_str!("sql/wanted/outcome.sql")).bind(node).fetch_optional(db).await
}

/// Returns where the parts of the desired state of a node come from.
pub async fn sources(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar(include_str!("sql/wanted/sources.sql")).bind(node).fetch_optional(db).await
}

/// The desired state of a node.
#[derive(Debug, sqlx::FromRow)]
pub struct WantedRow {
    /// The digest of its state.
    pub state: Option<String>,
    /// The epoch of its generation.
    pub epoch: i64,
    /// The counter of its generation.
    pub counter: i64,
    /// The settings of its agent.
    pub settings: Value,
    /// Whether the server is recovering: then nothing of this is offered.
    pub recovering: bool,
}

/// Returns the desired state of a node.
pub async fn of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<WantedRow>> {
    sqlx::query_as(include_str!("sql/wanted/of.sql")).bind(node).fetch_optional(db).await
}

/// Returns by which assignments nodes of the fleet are given baselines: the baseline, the group, the assigned baseline, how many nodes.
pub async fn given(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, String, String, i64)>> {
    sqlx::query_as(include_str!("sql/wanted/given.sql")).fetch_all(db).await
}

/// Nodes whose agents have the same settings, from the same groups.
#[derive(Debug, sqlx::FromRow)]
pub struct AlikeRow {
    /// The settings.
    pub settings: Json<AgentSettings>,
    /// How many there are.
    pub nodes: i64,
    /// The first of them, by name.
    pub names: Vec<String>,
}

/// Returns the nodes of a list by the settings of their agents.
pub async fn alike_settings(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<Vec<AlikeRow>> {
    let mut query = QueryBuilder::new(
        "with alike as (select w.placement, count(*) as nodes, (array_agg(node.name order by node.name))[1:20] as names
            from node_wanted w join node on node.id = w.node",
    );
    narrowing.push_beside(&mut query);
    query.push(" where w.placement is not null and node.retired_at is null and node.revoked_at is null and ");
    narrowing.push(&mut query);
    query.push(
        " group by w.placement) select p.settings, alike.nodes, alike.names from alike join placement p on p.id = alike.placement",
    );
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// A node that did not acknowledge what it is given yet.
#[derive(Debug, sqlx::FromRow)]
pub struct UnacknowledgedRow {
    /// Its name.
    pub name: String,
    /// Since when its settings are handed out.
    pub settings_since: SqlTimestamp,
    /// When it promised to check in next.
    pub promised_at: Option<SqlTimestamp>,
    in_all: i64,
}

/// Returns the nodes of a list that did not acknowledge what they are given, those that wait longest first, at most 100; and how many
/// there are.
pub async fn unacknowledged(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
) -> sqlx::Result<(Vec<UnacknowledgedRow>, i64)> {
    let mut query = QueryBuilder::new(
        "select node.name, w.settings_since, n.promised_at, count(*) over () as in_all
            from node_wanted w join node on node.id = w.node join node_now n on n.node = node.id
            where node.retired_at is null and node.revoked_at is null and (n.has_epoch, n.has_counter) is distinct from (w.epoch, w.counter) and ",
    );
    narrowing.push(&mut query);
    query.push(" order by w.settings_since, node.name limit 100");
    let rows: Vec<UnacknowledgedRow> = query.build_query_as().persistent(false).fetch_all(db).await?;
    let in_all = rows.first().map_or(0, |row| row.in_all);
    Ok((rows, in_all))
}
