//! Asking nodes to check in at once, and what came of it.

use super::overview::narrowed;
use crate::body::JsonBody;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError};
use crate::store::wake::{self, WakeRow, WokenRow};
use crate::store::{audit, change, listing, node, recovery};
use crate::trust::{Allowed, AllowedWithin, NodeRead, NodeWake};
use constans_core::filter::WOKEN_NODES;
use constans_core::words::check_reason;
use constans_wire::wake::{NewWake, Wake, Woken, WokenNode};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeSet;
use uuid::Uuid;

/// This many nodes are named by one wake; a filter selects any number.
const MAX_NAMED: usize = 1_000;
/// So often nodes are woken within a minute, by whomever.
const MAX_WITHIN_A_MINUTE: i64 = 60;
/// And so many nodes within a minute, but for one wake of more.
const MAX_NODES_WITHIN_A_MINUTE: usize = 100_000;

/// Asks nodes to check in at once.
///
/// Those whose request the server holds do within two seconds, a thousand at a time; the others at their next check-in.
#[utoipa::path(tag = "nodes", security(("token" = ["node.wake"]), ("session" = ["node.wake"])), request_body = NewWake, responses((status = 200, body = Wake)))]
#[post("/api/wakes", data = "<wanted>")]
pub async fn ask(
    wanted: JsonBody<NewWake>,
    caller: AllowedWithin<NodeWake>,
    db: &State<PgPool>,
) -> Answer<Wake> {
    let NewWake { nodes, filter, change, because } = wanted.0;
    if let Some(because) = &because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let ids = selected(db, &nodes, filter.as_deref(), change).await?;
    let mut transaction = db.begin().await?;
    caller.check_nodes(&mut transaction, &ids).await?;
    refuse_now(&mut transaction, ids.len()).await?;
    let no = wake::add(&mut transaction, &caller.person, because.as_deref(), &ids).await?;
    let detail =
        json!({ "nodes": nodes, "filter": filter, "change": change, "count": ids.len(), "because": because });
    audit::add(&mut *transaction, &caller.person, "asked nodes to check in", &format!("W{no}"), &detail)
        .await?;
    transaction.commit().await?;
    Ok(Json(by_no(db, no).await?))
}

/// Refuses to wake so many nodes while the server recovers, or too often.
///
/// # Errors
///
/// Returns which of the two it is.
pub(super) async fn refuse_now(db: &mut PgConnection, nodes: usize) -> Result<(), ApiError> {
    if recovery::since(&mut *db).await?.is_some() {
        return Err(ApiError::Conflict {
            message: "the server is recovering: nodes are offered nothing".to_owned(),
            hint: "constans recovery show".to_owned(),
        });
    }
    let minute_ago = crate::clock::now() - SignedDuration::from_mins(1);
    let (wakes, woken) = wake::count_since(&mut *db, minute_ago).await?;
    if wakes >= MAX_WITHIN_A_MINUTE {
        return Err(ApiError::Conflict {
            message: format!("nodes were woken {MAX_WITHIN_A_MINUTE} times within a minute"),
            hint: "name all the nodes at once, or select them by a filter".to_owned(),
        });
    }
    let woken = usize::try_from(woken).unwrap_or(0);
    if woken > 0 && woken + nodes > MAX_NODES_WITHIN_A_MINUTE {
        return Err(ApiError::Conflict {
            message: format!("{woken} nodes were woken within a minute, and these are {nodes} more"),
            hint: "wait a minute, or choose fewer nodes".to_owned(),
        });
    }
    Ok(())
}

/// Returns the nodes that are meant.
async fn selected(
    db: &PgPool,
    nodes: &BTreeSet<String>,
    filter: Option<&str>,
    change: Option<i64>,
) -> Result<Vec<Uuid>, ApiError> {
    let ids = match (nodes.is_empty(), filter, change) {
        (false, None, None) => {
            if nodes.len() > MAX_NAMED {
                let why = format!("at most {MAX_NAMED} nodes are named; select more by a filter");
                return Err(ApiError::invalid("nodes", why));
            }
            let names: Vec<String> = nodes.iter().cloned().collect();
            let ids = node::ids(db, &names).await?;
            if let Some(missing) = names.into_iter().find(|name| !ids.contains_key(name)) {
                return Err(ApiError::Missing { what: "node", name: missing });
            }
            ids.into_values().collect()
        }
        (true, Some(filter), None) => {
            let narrowed = narrowed(db, Some(filter), crate::clock::now()).await?;
            listing::admitted_ids(db, &narrowed.by).await?
        }
        (true, None, Some(no)) => {
            if change::by_no(db, no).await?.is_none() {
                return Err(ApiError::Missing { what: "change", name: format!("C{no}") });
            }
            wake::without_change(db, no).await?
        }
        _ => return Err(ApiError::invalid("nodes", "give one of nodes, filter and change")),
    };
    if ids.is_empty() {
        let hint = match change {
            Some(no) => format!("every node that C{no} alters fetched it: constans change show C{no}"),
            None => "constans node list --filter shows what a filter selects".to_owned(),
        };
        return Err(ApiError::Conflict { message: "there is no node to wake".to_owned(), hint });
    }
    Ok(ids)
}

/// A wake, and what came of it so far. Which nodes were woken is kept for a week.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Wake)))]
#[get("/api/wakes/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Wake> {
    Ok(Json(by_no(db, i64::from(no)).await?))
}

/// The nodes of a wake, by name.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<WokenNode>)))]
#[get("/api/wakes/<no>/nodes?<list..>")]
pub async fn nodes(
    no: u32,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<WokenNode> {
    by_no(db, i64::from(no)).await?;
    let read = |range| async move {
        placed(wake::nodes(db.inner(), i64::from(no), &range).await?, WokenRow::cursor, |row| Ok(woken(row)))
    };
    list.page(&WOKEN_NODES, read).await
}

async fn by_no(db: &PgPool, no: i64) -> Result<Wake, ApiError> {
    let row = wake::by_no(db, no).await?;
    let row = row.ok_or_else(|| ApiError::Missing { what: "wake", name: format!("W{no}") })?;
    Ok(shown(row))
}

fn shown(row: WakeRow) -> Wake {
    Wake {
        no: row.no,
        at: row.at.to_jiff(),
        who: row.who,
        because: row.because,
        nodes: row.nodes.unsigned_abs(),
        waiting: row.waiting.unsigned_abs(),
        answered: row.answered.unsigned_abs(),
        up_to_date: row.up_to_date.unsigned_abs(),
        median_ms: row.median_ms.map(i64::unsigned_abs),
        slowest_ms: row.slowest_ms.map(i64::unsigned_abs),
        last_by: row.last_by.map(|at| at.to_jiff()),
        now: crate::clock::now(),
    }
}

fn woken(row: WokenRow) -> WokenNode {
    let answered_ms = row.answered_at.map(|at| {
        let after = at.to_jiff().duration_since(row.woken_at.to_jiff());
        u64::try_from(after.as_millis()).unwrap_or(0)
    });
    WokenNode {
        name: row.name,
        woken: match (answered_ms, row.was_waiting) {
            (Some(_), _) => Woken::Answered,
            (None, true) => Woken::Woken,
            (None, false) => Woken::AtItsCheckIn,
        },
        answered_ms,
        heard_at: row.heard_at.map(|at| at.to_jiff()),
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        is_up_to_date: row.is_up_to_date,
    }
}
