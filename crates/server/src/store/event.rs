//! Events: what was noticed of nodes, and what people did.

use super::narrowing::Narrowing;
use crate::clock::sql_now;
use constans_core::node_status::CERTIFICATE_ENDS_WITHIN_HOURS;
use constans_wire::node_event::NodeEvent;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::{Value, json};
use sqlx::{PgExecutor, Postgres, QueryBuilder};
use uuid::Uuid;

/// An event with its place in the order in which events were committed.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct EventRow {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: SqlTimestamp,
    /// Its kind.
    pub kind: String,
    /// Who did it, if someone did.
    pub who: Option<String>,
    /// What was done, if someone did it.
    pub did: Option<String>,
    /// To what; of what was noticed of a node, the name that it had.
    pub subject: String,
    /// The name that the node has now, if it is about one that is not retired.
    pub node: Option<String>,
    /// More of it.
    pub detail: Value,
    /// The epoch of the number of its transaction.
    pub xid_epoch: i64,
    /// The number of its transaction.
    pub xid: String,
}

/// A place in the order in which events were committed.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct EventCursor {
    /// The epoch of the number of the transaction.
    pub xid_epoch: i64,
    /// The number of the transaction.
    pub xid: String,
    /// The number of the event.
    pub id: i64,
}

impl EventCursor {
    /// Returns the place before the first event.
    pub fn first() -> Self {
        Self { xid_epoch: 0, xid: "0".to_owned(), id: 0 }
    }

    /// Returns the later of two places.
    pub fn later(self, other: Self) -> Self {
        let key = |cursor: &Self| (cursor.xid_epoch, cursor.xid.parse::<u64>().unwrap_or(0), cursor.id);
        if key(&self) < key(&other) { other } else { self }
    }
}

impl EventRow {
    /// Returns its place.
    pub fn cursor(&self) -> EventCursor {
        EventCursor { xid_epoch: self.xid_epoch, xid: self.xid.clone(), id: self.id }
    }
}

/// Which events are asked for.
#[derive(Debug, Clone, Copy, Default)]
pub struct EventChoice {
    /// Only those of this node.
    pub node: Option<Uuid>,
    /// Also what people did.
    pub with_acts: bool,
}

/// Adds what was noticed of a node, in the transaction in which it is stored.
pub async fn add_of_node(db: impl PgExecutor<'_>, node: Uuid, events: &[NodeEvent]) -> sqlx::Result<()> {
    let details: Vec<Value> = events.iter().map(|event| json!(event)).collect();
    sqlx::query(include_str!("sql/event/add_of_node.sql"))
        .bind(node)
        .bind(details)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns events before a number, the newest first.
pub async fn before(
    db: impl PgExecutor<'_>,
    before: i64,
    choice: EventChoice,
    most: i64,
) -> sqlx::Result<Vec<EventRow>> {
    match choice.node {
        Some(node) => {
            let query = sqlx::query_as(include_str!("sql/event/before_of_node.sql"));
            query.bind(before).bind(node).bind(most).fetch_all(db).await
        }
        None => {
            let query = sqlx::query_as(include_str!("sql/event/before.sql"));
            query.bind(before).bind(choice.with_acts).bind(most).fetch_all(db).await
        }
    }
}

/// Returns the events after a place, in the order in which they were committed: only those before which no transaction is open any
/// more, so that none appears later before them.
pub async fn after(
    db: impl PgExecutor<'_>,
    after: &EventCursor,
    choice: EventChoice,
    most: i64,
) -> sqlx::Result<Vec<EventRow>> {
    sqlx::query_as(include_str!("sql/event/after.sql"))
        .bind(after.xid_epoch)
        .bind(&after.xid)
        .bind(after.id)
        .bind(choice.node)
        .bind(choice.with_acts)
        .bind(most)
        .fetch_all(db)
        .await
}

/// Returns the last place in the order in which events were committed, before which none will appear any more.
pub async fn last(db: impl PgExecutor<'_>) -> sqlx::Result<Option<EventCursor>> {
    sqlx::query_as(include_str!("sql/event/last.sql")).fetch_optional(db).await
}

/// Returns the last events of the nodes of a list, the newest first; of all nodes, with the changes that were handed out. They are
/// among the last 2,000 of the fleet.
pub async fn recent(
    db: impl PgExecutor<'_>,
    narrowing: &Narrowing,
    most: i64,
) -> sqlx::Result<Vec<EventRow>> {
    let mut query: QueryBuilder<Postgres> = QueryBuilder::new(
        "select e.id, e.at, e.kind, e.who, e.did, e.subject, node.name as node, e.detail, e.xid_epoch, e.xid::text as xid
         from (select * from event where kind <> 'act' order by id desc limit ",
    );
    // Some may be those of retired nodes.
    let is_all = matches!(narrowing, Narrowing::All);
    query.push_bind(if is_all { most * 8 } else { 2_000 });
    query.push(") e left join node on node.id = e.node");
    narrowing.push_beside(&mut query);
    query.push(" where (e.node is not null and node.retired_at is null and ");
    narrowing.push(&mut query);
    query.push(if is_all { ") or e.node is null" } else { ")" });
    query
        .push(" order by e.id desc limit ")
        .push_bind(most)
        .build_query_as()
        .persistent(false)
        .fetch_all(db)
        .await
}

/// Notes the nodes that have fallen silent, a bounded number of them. Returns how many.
pub async fn note_silent(db: impl PgExecutor<'_>) -> sqlx::Result<u64> {
    let query = sqlx::query(include_str!("sql/event/note_silent.sql"));
    query.bind(sql_now()).execute(db).await.map(|done| done.rows_affected())
}

/// Notes the nodes that checked in again after they were silent, a bounded number of them. Returns how many.
pub async fn note_checked_in_again(db: impl PgExecutor<'_>) -> sqlx::Result<u64> {
    let query = sqlx::query(include_str!("sql/event/note_checked_in_again.sql"));
    query.bind(sql_now()).execute(db).await.map(|done| done.rows_affected())
}

/// Notes the nodes whose certificates end soon. Returns how many.
pub async fn note_ending(db: impl PgExecutor<'_>) -> sqlx::Result<u64> {
    let hours = i32::try_from(CERTIFICATE_ENDS_WITHIN_HOURS).unwrap_or(i32::MAX);
    let query = sqlx::query(include_str!("sql/event/note_ending.sql"));
    query.bind(sql_now()).bind(hours).execute(db).await.map(|done| done.rows_affected())
}

/// Removes what was noticed of nodes before a moment, a bounded number of events. Returns how many.
pub async fn prune(db: impl PgExecutor<'_>, before: SqlTimestamp) -> sqlx::Result<u64> {
    let query = sqlx::query(include_str!("sql/event/prune.sql"));
    query.bind(before).execute(db).await.map(|done| done.rows_affected())
}
