//! Lists of nodes as they are now, narrowed or whole, and how many there are of each status.

use super::narrowing::{Narrowing, REFUSED, push_last_contact, push_status, push_timed, push_timed_at};
use crate::clock::sql_now;
use constans_core::filter::STABLE_FIELDS;
use constans_core::node_status::{CERTIFICATE_ENDS_WITHIN_HOURS, CLOCK_TOLERANCE_SECS, NodeStatus};
use jiff::Timestamp;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::{Value, json};
use sqlx::{AssertSqlSafe, PgExecutor, PgPool, Postgres, QueryBuilder};
use uuid::Uuid;

/// A node with its present state.
#[derive(Debug, sqlx::FromRow)]
pub struct NodeRow {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// When it was revoked.
    pub revoked_at: Option<SqlTimestamp>,
    /// Its labels.
    pub labels: Value,
    /// What its agent reported about it.
    pub about: Value,
    /// Its last contact.
    pub heard_at: Option<SqlTimestamp>,
    /// When its next check-in is due.
    pub promised_at: Option<SqlTimestamp>,
    /// The state of its last contact.
    pub last_contact: String,
    /// Its clock minus the server's, in milliseconds.
    pub clock_off_ms: i64,
    /// End of the validity of its certificate.
    pub ends_at: Option<SqlTimestamp>,
    /// Its stage.
    pub stage: String,
    /// The groups.
    pub groups: Value,
    /// Its mode.
    pub mode: String,
    /// The digest of the state that is wanted.
    pub state: Option<String>,
    /// Why its desired state cannot be resolved.
    pub unusable: Option<String>,
    /// Since when two machines use this identity.
    pub duplicate_identity_since: Option<SqlTimestamp>,
    /// Since when the state is wanted.
    pub since: Option<SqlTimestamp>,
    /// The status of its last full run.
    pub full_status: Option<String>,
    /// The digest of the state that it ran.
    pub full_state: Option<String>,
    /// When that run began.
    pub full_began: Option<SqlTimestamp>,
    /// When the next one is overdue.
    pub overdue_at: Option<SqlTimestamp>,
    /// That run.
    pub full_run: Option<Uuid>,
    /// Since when its memory is lost.
    pub memory_lost_at: Option<SqlTimestamp>,
    /// The restart that its operating system needs, if any.
    pub restart_pending: Option<Value>,
    /// How its agent is with the version that its settings name.
    pub agent_upgrade: Option<Value>,
    /// How many drift episodes are open.
    pub open_episodes: i32,
    /// Its position in the order of the list; nodes of one place are in the order of their names.
    pub place: i64,
}

/// The order of a list of nodes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NodeOrder {
    /// By what.
    pub by: NodeKey,
    /// Whether the last one comes first.
    pub descending: bool,
}

/// What nodes are ordered by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NodeKey {
    /// Their names.
    Name,
    /// Their statuses, the most severe first.
    Status,
    /// The time of their last contact; those without one come first.
    LastContact,
    /// When their last full runs began; those without come first.
    LastRun,
}

impl NodeOrder {
    /// By name.
    pub const BY_NAME: Self = Self { by: NodeKey::Name, descending: false };

    /// Writes the place of a node in this order.
    fn push_place(self, query: &mut QueryBuilder<Postgres>) {
        match self.by {
            NodeKey::Name => {
                query.push("0::bigint");
            }
            NodeKey::Status => {
                push_status(query.push("array_position(").push_bind(status_words()).push(", "))
                    .push(")::bigint");
            }
            NodeKey::LastContact | NodeKey::LastRun => {
                query
                    .push(format!("coalesce((extract(epoch from {}) * 1000000)::bigint, -1)", self.moment()));
            }
        }
    }

    /// The moment by which nodes are ordered; an empty text if they are not ordered by a moment.
    fn moment(self) -> &'static str {
        match self.by {
            NodeKey::Name | NodeKey::Status => "",
            NodeKey::LastContact => "n.heard_at",
            NodeKey::LastRun => "n.full_began",
        }
    }

    /// Which of two places comes later in it.
    fn beyond(self) -> &'static str {
        if self.descending { "<" } else { ">" }
    }

    fn word(self) -> &'static str {
        if self.descending { "desc" } else { "asc" }
    }

    /// The order of the names of nodes of one place.
    fn word_of_names(self) -> &'static str {
        if self.by == NodeKey::Name { self.word() } else { "asc" }
    }
}

fn status_words() -> Vec<String> {
    NodeStatus::ALL.iter().map(|status| json!(status).as_str().unwrap_or_default().to_owned()).collect()
}

/// The place of nodes that are in line, in the order by status: where PostgreSQL finds the word, from 1 on.
fn place_of_in_line() -> i64 {
    NodeStatus::ALL.iter().position(|status| *status == NodeStatus::InLine).map_or(0, |at| at as i64 + 1)
}

/// Where a page of a list begins: after the node of this place and name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeCursor {
    /// Its place.
    pub place: i64,
    /// Its name.
    pub name: String,
}

/// Begins what is shown of each of the nodes of a page; the statement that selects their ids comes next.
const BEGIN_SHOWN: &str = "with page as materialized (";

/// Writes what is shown of each of the nodes of a page, after the statement that selects their ids and places.
fn push_shown(query: &mut QueryBuilder<Postgres>, order: NodeOrder) {
    query.push(") select node.id, node.name, node.revoked_at, node.labels, node.about, n.heard_at, n.promised_at, n.clock_off_ms, k.ends_at, ");
    push_last_contact(query).push(
        " as last_contact, coalesce(p.stage, '') as stage, coalesce(p.groups, '[]') as groups, coalesce(p.mode, '') as mode, s.digest as state, w.unusable,
             n.duplicate_identity_since, w.state_since as since, n.full_status, n.full_state, n.full_began,
             n.overdue_at, n.full_run, node.restart_pending, node.agent_upgrade, n.memory_lost_at, n.open_episodes, page.place
         from page join node on node.id = page.id join node_now n on n.node = node.id left join node_wanted w on w.node = node.id
             left join placement p on p.id = w.placement left join effective_state s on s.id = w.state
             left join lateral (select max(ends_at) as ends_at from node_key where node_key.node = node.id and node_key.revoked_at is null) k on true
         order by page.place ",
    );
    query.push(order.word()).push(", node.name ").push(order.word_of_names());
}

/// Where many nodes are selected, a page of them is found among the first of all.
const FIRST_BY_NAME: &str =
    "(select * from node where retired_at is null and name > $1 order by name limit 8000)";

/// Returns the nodes of a list in an order; at most `most` after one of them.
pub async fn ordered(
    db: &PgPool,
    narrowing: &Narrowing,
    order: NodeOrder,
    after: Option<&NodeCursor>,
    most: i64,
) -> sqlx::Result<Vec<NodeRow>> {
    let by_name = order.by == NodeKey::Name;
    if by_name && !order.descending {
        return all(db, narrowing, after.map_or("", |after| &after.name), most).await;
    }
    let mut page = if order.moment().is_empty() || narrowing.asks_for_now() {
        of_places(narrowing, order, after, most)
    } else {
        of_moments(narrowing, order, after, most)
    };
    push_shown(&mut page, order);
    page.build_query_as().persistent(false).fetch_all(db).await
}

/// Begins what is shown of a page, with its nodes found by their places.
fn of_places(
    narrowing: &Narrowing,
    order: NodeOrder,
    after: Option<&NodeCursor>,
    most: i64,
) -> QueryBuilder<Postgres> {
    let by_name = order.by == NodeKey::Name;
    let mut page = QueryBuilder::new(BEGIN_SHOWN);
    page.push("select id, place from (");
    // One moment for both parts: a node is in one of them.
    let now = sql_now();
    let of_quiet = if order.by == NodeKey::Status { "(n.quiet_until >= {now}) is not true and " } else { "" };
    push_placed(&mut page, narrowing, |query| order.push_place(query), (of_quiet, now));
    if order.by == NodeKey::Status {
        // Most nodes are in line without problems: of these, as many by name as the page can show are enough.
        let place = place_of_in_line();
        page.push(" union all (");
        push_placed(
            &mut page,
            narrowing,
            |query| {
                query.push(format!("{place}::bigint"));
            },
            ("n.quiet_until >= {now} and ", now),
        );
        if let Some(after) = after.filter(|after| after.place == place) {
            page.push(" and node.name > ").push_bind(after.name.clone());
        }
        page.push(" order by node.name limit ").push_bind(most).push(")");
    }
    page.push(") placed");
    if let Some(after) = after {
        page.push(format!(" where place {} ", order.beyond())).push_bind(after.place);
        page.push(" or place = ").push_bind(after.place);
        let beyond = if by_name { order.beyond() } else { ">" };
        page.push(format!(" and name {beyond} ")).push_bind(after.name.clone());
    }
    page.push(format!(" order by place {}, name {} limit ", order.word(), order.word_of_names()))
        .push_bind(most);
    page
}

/// The same where moments are the places: the first by moment are found in the nodes' short rows, which a retired node has no more, and only their
/// names are looked up. Nodes of one moment are taken together, as their names order them.
fn of_moments(
    narrowing: &Narrowing,
    order: NodeOrder,
    after: Option<&NodeCursor>,
    most: i64,
) -> QueryBuilder<Postgres> {
    let at = format!("coalesce({}, '-infinity')", order.moment());
    let after = after.map(|after| (after, moment_of(after.place)));
    let mut page = QueryBuilder::new("with first as materialized ((");
    let push_nodes = |page: &mut QueryBuilder<Postgres>| {
        page.push(format!("select n.node, {at} as at from node_now n where true"));
        narrowing.push_among(page, "n.node");
    };
    push_nodes(&mut page);
    if let Some((_, moment)) = &after {
        page.push(format!(" and {at} {} ", order.beyond())).push_bind(moment.clone()).push("::timestamptz");
    }
    page.push(format!(" order by at {} fetch first (", order.word()))
        .push_bind(most)
        .push(") rows with ties)");
    if let Some((_, moment)) = &after {
        page.push(" union all ");
        push_nodes(&mut page);
        page.push(format!(" and {at} = ")).push_bind(moment.clone()).push("::timestamptz");
    }
    page.push(
        "), page as materialized (select first.node as id,
             case when first.at = '-infinity' then -1 else (extract(epoch from first.at) * 1000000)::bigint end as place
             from first join node on node.id = first.node",
    );
    if let Some((after, moment)) = after {
        page.push(" where first.at <> ").push_bind(moment).push("::timestamptz or node.name > ");
        page.push_bind(after.name.clone());
    }
    page.push(format!(" order by first.at {}, node.name limit ", order.word())).push_bind(most);
    page
}

/// The moment that a place means, as PostgreSQL reads it.
fn moment_of(place: i64) -> String {
    let moment = Timestamp::from_microsecond(place).ok().filter(|_| place >= 0);
    moment.map_or_else(|| "-infinity".to_owned(), |moment| moment.to_string())
}

/// Writes the statement that selects the nodes of a list with their places, as far as `also` holds of them.
fn push_placed(
    query: &mut QueryBuilder<Postgres>,
    narrowing: &Narrowing,
    push_place: impl FnOnce(&mut QueryBuilder<Postgres>),
    (also, now): (&str, SqlTimestamp),
) {
    query.push("select node.id, node.name, ");
    push_place(query);
    query.push(" as place from node join node_now n on n.node = node.id where node.retired_at is null and ");
    push_timed_at(query, also, now);
    if narrowing.asks_for_now() {
        narrowing.push(query);
    } else {
        query.push("true");
        narrowing.push_among(query, "n.node");
    }
}

/// Returns the nodes of a list by name; at most `most` after the name `after`.
pub async fn all(db: &PgPool, narrowing: &Narrowing, after: &str, most: i64) -> sqlx::Result<Vec<NodeRow>> {
    let among = |nodes: &'static str| async move {
        let mut page =
            QueryBuilder::new(format!("{BEGIN_SHOWN}select node.id, 0::bigint as place from {nodes} node"));
        narrowing.push_beside(&mut page);
        page.push(" where node.retired_at is null and node.name > ")
            .push_bind(after.to_owned())
            .push(" and ");
        narrowing.push(&mut page);
        page.push(" order by node.name limit ").push_bind(most);
        push_shown(&mut page, NodeOrder::BY_NAME);
        page.build_query_as().persistent(false).fetch_all(db).await
    };
    if !narrowing.asks_for_now() {
        let first: Vec<NodeRow> = among(FIRST_BY_NAME).await?;
        if matches!(narrowing, Narrowing::All) || i64::try_from(first.len()).is_ok_and(|found| found >= most)
        {
            return Ok(first);
        }
    }
    among("node").await
}

/// Returns how many nodes are neither in nor out.
pub async fn undecidable(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<i64> {
    let mut query = QueryBuilder::new("select count(*) from node");
    narrowing.push_beside(&mut query);
    let fields: Vec<String> = STABLE_FIELDS.iter().map(|field| format!("'{}'", field.path)).collect();
    // Most nodes report all fields; an index knows the others.
    query.push(format!(
        " where node.retired_at is null and not node.about ?& array[{}] and (",
        fields.join(", ")
    ));
    narrowing.push(&mut query);
    query.push(") is null").build_query_scalar().persistent(false).fetch_one(db).await
}

/// Returns the node that has this name now.
pub async fn one(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<NodeRow>> {
    let mut query = QueryBuilder::new(format!(
        "{BEGIN_SHOWN}select id, 0::bigint as place from node where retired_at is null and name = "
    ));
    query.push_bind(name.to_owned());
    push_shown(&mut query, NodeOrder::BY_NAME);
    query.build_query_as().fetch_optional(db).await
}

/// Returns how many nodes a list has.
pub async fn count(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<i64> {
    let mut query = QueryBuilder::new("select count(*) from ");
    if matches!(narrowing, Narrowing::All) {
        // An index answers this.
        query.push("node where retired_at is null");
    } else {
        query.push("(");
        narrowing.push_ids(&mut query);
        query.push(") meant (id)");
    }
    query.build_query_scalar().persistent(false).fetch_one(db).await
}

/// Returns the nodes of a list that are not refused.
pub async fn admitted_ids(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<Vec<Uuid>> {
    let mut query = QueryBuilder::new("select id from (");
    narrowing.push_ids(&mut query);
    query
        .push(format!(") meant (id) where id not in {REFUSED}"))
        .build_query_scalar()
        .persistent(false)
        .fetch_all(db)
        .await
}

/// Returns how many nodes of a list there are that are not refused.
pub async fn total(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<i64> {
    if matches!(narrowing, Narrowing::All) {
        // An index answers both.
        let all = format!(
            "select (select count(*) from node where retired_at is null) - (select count(*) from {REFUSED} refused)"
        );
        return sqlx::query_scalar(AssertSqlSafe(all)).fetch_one(db).await;
    }
    let mut query = QueryBuilder::new("select count(*) from (");
    narrowing.push_ids(&mut query);
    query
        .push(format!(") meant (id) where id not in {REFUSED}"))
        .build_query_scalar()
        .persistent(false)
        .fetch_one(db)
        .await
}

/// The nodes of a list that are shown by a status.
#[derive(Debug, sqlx::FromRow)]
pub struct StatusRow {
    /// The status.
    pub status: String,
    /// How many.
    pub nodes: i64,
    /// Those of them that are silent, never reported or may have problems, according to their own rows.
    pub with_problems: Vec<Uuid>,
}

/// Counts the nodes of a list by the status that they are shown by, and finds those that may have problems, in one look. Unless
/// the list [asks for now](Narrowing::asks_for_now), those on time, in line and without problems are left out.
pub async fn statuses(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<Vec<StatusRow>> {
    let clock_is_right = format!(
        "n.clock_off_ms between {} and {}",
        -1_000 * CLOCK_TOLERANCE_SECS,
        1_000 * CLOCK_TOLERANCE_SECS
    );
    let mut query = QueryBuilder::new("select ");
    push_status(&mut query)
        .push(" as status, count(*) as nodes, coalesce(array_agg(n.node) filter (where n.heard_at is null or n.full_status is null");
    push_timed(
        &mut query,
        " or {now} > n.silent_after or {now} > n.overdue_at or n.duplicate_identity_since is not null or n.memory_lost_at is not null",
    );
    query.push(format!(" or n.is_unusable or not {clock_is_right}), '{{}}') as with_problems from "));
    if narrowing.asks_for_now() {
        query.push("node_now n join node on node.id = n.node where ");
        narrowing.push(&mut query);
    } else {
        // The chosen nodes are looked up among those that are not in line or have problems, and not the other way round.
        push_timed(&mut query, "(select * from node_now n where (n.quiet_until >= {now} and ");
        query.push(format!("{clock_is_right}) is not true offset 0) n where true"));
        narrowing.push_among(&mut query, "n.node");
    }
    query.push(" group by 1").build_query_as().persistent(false).fetch_all(db).await
}

/// One node of the ribbon.
#[derive(Debug, sqlx::FromRow)]
pub struct TickRow {
    /// Its name.
    pub name: String,
    /// Its status.
    pub status: String,
    /// The state of its last contact.
    pub last_contact: String,
}

/// Returns the nodes of a list, as the ribbon shows them.
pub async fn ticks(db: impl PgExecutor<'_>, narrowing: &Narrowing) -> sqlx::Result<Vec<TickRow>> {
    let mut query = QueryBuilder::new("select node.name, ");
    push_status(&mut query).push(" as status, ");
    push_last_contact(&mut query).push(" as last_contact from node_now n join node on node.id = n.node");
    query.push(" where node.retired_at is null and ");
    narrowing.push(&mut query);
    query.build_query_as().persistent(false).fetch_all(db).await
}

/// A node that may have problems.
#[derive(Debug, sqlx::FromRow)]
pub struct ProblemRow {
    /// Its name.
    pub name: String,
    /// Its status.
    pub status: String,
    /// The state of its last contact.
    pub last_contact: String,
    /// Its last contact.
    pub heard_at: Option<SqlTimestamp>,
    /// When its next check-in is due.
    pub promised_at: Option<SqlTimestamp>,
    /// Why its desired state cannot be resolved.
    pub unusable: Option<String>,
    /// Since when its state is wanted.
    pub since: Option<SqlTimestamp>,
    /// Whether two machines were seen with its identity.
    pub has_duplicate_identity: bool,
    /// Whether its memory was lost.
    pub is_memory_lost: bool,
    /// Whether the last upgrade of its agent failed.
    pub is_upgrade_failed: bool,
    /// Until when its certificate holds, if that ends.
    pub ends_at: Option<SqlTimestamp>,
    /// When its next full run is overdue.
    pub overdue_at: Option<SqlTimestamp>,
    /// Its clock minus the server's, in milliseconds.
    pub clock_off_ms: i64,
}

/// Returns these nodes, and those of a list whose certificate ends or whose agent was not upgraded.
pub async fn with_problems(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    nodes: Vec<Uuid>,
) -> sqlx::Result<Vec<ProblemRow>> {
    let mut query = QueryBuilder::new(
        "with ending as materialized (select k.node, (select max(ends_at) from node_key l where l.node = k.node and l.revoked_at is null) as ends_at ",
    );
    push_timed(
        &mut query,
        "from node_key k where k.revoked_at is null and k.ends_at < {now} + make_interval(hours => ",
    );
    query
        .push_bind(i32::try_from(CERTIFICATE_ENDS_WITHIN_HOURS).unwrap_or(i32::MAX))
        .push(") group by k.node), candidate as materialized (select unnest(");
    query.push_bind(nodes).push("::uuid[]) as node union select node from ending where true");
    narrowing.push_among(&mut query, "ending.node");
    query.push(" union select node.id from node where node.agent_upgrade ->> 'state' = 'failed' and node.retired_at is null");
    narrowing.push_among(&mut query, "node.id");
    query.push(") select node.name, ");
    push_status(&mut query).push(" as status, ");
    push_last_contact(&mut query).push(
        " as last_contact, n.heard_at, n.promised_at, case when n.is_unusable then w.unusable end as unusable, w.state_since as since, n.duplicate_identity_since is not null as has_duplicate_identity,
             n.memory_lost_at is not null as is_memory_lost, coalesce(node.agent_upgrade ->> 'state' = 'failed', false) as is_upgrade_failed, n.overdue_at, n.clock_off_ms, ending.ends_at
         from candidate join node_now n on n.node = candidate.node join node on node.id = n.node left join ending on ending.node = n.node
             left join node_wanted w on w.node = n.node and (n.is_unusable or n.heard_at is null or n.full_status is null) order by node.name",
    );
    query.build_query_as().persistent(false).fetch_all(db).await
}
