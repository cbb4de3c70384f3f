//! Events: the newest first for people, or in the order in which they were committed for programs that miss none.

use crate::body::Number;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::event::{self, EventChoice, EventCursor, EventRow};
use crate::store::node;
use crate::trust::{Allowed, AuditRead, NodeRead};
use constans_core::node_status::NodeStatus;
use constans_core::sentence::Sentence;
use constans_wire::event::{Event, EventPage};
use constans_wire::node_event::NodeEvent;
use rocket::serde::json::Json;
use rocket::{State, get};
use serde_json::Value;
use sqlx::PgPool;

const PAGE: i64 = 100;

/// The events, the newest first, 100 per page; or those after a place, in the order in which they were committed: who goes on from
/// `next` misses none. Acts of people are listed only with the permission to read the audit trail.
#[utoipa::path(tag = "overview", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("before" = Option<u32>, Query, description = "Only those before this number"),
    ("after" = Option<String>, Query, description = "`next` of the page before; `0.0.0` for the first"),
    ("node" = Option<String>, Query, description = "Only events of this node"),
), responses((status = 200, body = EventPage)))]
#[get("/api/events?<before>&<after>&<node>")]
pub async fn list(
    before: Number,
    after: Option<&str>,
    node: Option<&str>,
    caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<EventPage> {
    let db = db.inner();
    let node = match node {
        None => None,
        Some(name) => Some(
            node::by_name(db, name)
                .await?
                .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?,
        ),
    };
    let choice = EventChoice { node, with_acts: caller.also::<AuditRead>() };
    let (rows, next) = match after {
        Some(after) => {
            let after = cursor_of(after)?;
            let end = event::last(db).await?;
            let rows = event::after(db, &after, choice, PAGE).await?;
            let next = rows.last().map_or(after, EventRow::cursor);
            // What was left out up to the end is not read again the next time.
            let end = end.filter(|_| i64::try_from(rows.len()).is_ok_and(|read| read < PAGE));
            (rows, end.map_or(next.clone(), |end| next.later(end)))
        }
        None => {
            // What is committed between is listed twice rather than not at all.
            let last = event::last(db).await?;
            let before = before.0.map_or(i64::MAX, i64::from);
            (event::before(db, before, choice, PAGE).await?, last.unwrap_or_else(EventCursor::first))
        }
    };
    let next = format!("{}.{}.{}", next.xid_epoch, next.xid, next.id);
    let events = rows.into_iter().map(shown).collect::<Result<_, _>>()?;
    Ok(Json(EventPage { events, next }))
}

fn cursor_of(after: &str) -> Result<EventCursor, ApiError> {
    let mut parts = after.split('.');
    let mut next = || parts.next();
    let read = (|| {
        Some(EventCursor {
            xid_epoch: next()?.parse().ok()?,
            xid: next()?.parse::<u64>().ok()?.to_string(),
            id: next()?.parse().ok()?,
        })
    })();
    read.filter(|_| parts.next().is_none())
        .ok_or_else(|| ApiError::invalid("after", "it is `next` of the page before, or 0.0.0".to_owned()))
}

/// Returns the status that an act of this kind is shown by.
fn status_of(kind: &str) -> Option<NodeStatus> {
    match kind {
        "handed_out" => Some(NodeStatus::RolledOut),
        "joined" => Some(NodeStatus::NeverReported),
        "revoked" => Some(NodeStatus::Revoked),
        _ => None,
    }
}

/// Returns an event as it is shown.
///
/// # Errors
///
/// Returns that what is stored cannot be read.
pub fn shown(row: EventRow) -> Result<Event, ApiError> {
    let (run, status, words) = match &row.did {
        Some(did) => (None, status_of(&row.kind), Sentence::new(format!("{did}: {}", row.subject))),
        None => {
            let event: NodeEvent = read_stored(|| format!("event {}", row.id), row.detail.clone())?;
            (event.run(), event.status(), event.words())
        }
    };
    Ok(Event {
        id: row.id,
        at: row.at.to_jiff(),
        kind: row.kind,
        who: row.who,
        change: row.did.as_ref().and_then(|_| row.detail.get("change")).and_then(Value::as_i64),
        subject: row.subject,
        node: row.node,
        run,
        status,
        words,
        detail: row.detail,
    })
}
