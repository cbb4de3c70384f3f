//! Freezes: brakes that take no lock and wait for no change.

use super::clause_patterns::{as_like, check_clauses};
use crate::body::JsonBody;
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError};
use crate::store::freeze::{self, ListedRow};
use crate::store::narrowing::Narrowing;
use crate::store::{audit, listing, node, wake};
use crate::trust::{Allowed, AllowedWithin, FreezeSet, NodeRead};
use constans_core::filter::FREEZES;
use constans_core::words::check_reason;
use constans_wire::freeze::{EndFreeze, FreezeShown, NewFreeze};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;

/// The longest freeze: 90 days.
const LONGEST_SECS: u64 = 90 * 86_400;
/// This many nodes are named by one freeze.
const MAX_NODES: usize = 1_000;
/// This many freezes are in force at once: each node that they are for is given all of them.
const MAX_IN_FORCE: i64 = 100;

/// The freezes that are in force, or also those that are over, the newest first.
#[utoipa::path(tag = "freezes", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("also_over" = Option<bool>, Query, description = "Also those that are over"), ListQuery), responses((status = 200, body = Vec<FreezeShown>)))]
#[get("/api/freezes?<also_over>&<list..>")]
pub async fn list(
    also_over: bool,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<FreezeShown> {
    let read = |range| async move {
        placed(freeze::list(db.inner(), &range, also_over).await?, ListedRow::cursor, |row| Ok(shown(row)))
    };
    list.page(&FREEZES, read).await
}

/// Sets a freeze: the nodes change nothing of these clauses until its hour.
///
/// Those that can be woken learn it at once, the others at their next check-in.
#[utoipa::path(tag = "freezes", security(("token" = ["freeze.set"]), ("session" = ["freeze.set"])), request_body = NewFreeze, responses((status = 200, body = FreezeShown)))]
#[post("/api/freezes", data = "<wanted>")]
pub async fn set(
    wanted: JsonBody<NewFreeze>,
    caller: AllowedWithin<FreezeSet>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<FreezeShown> {
    let NewFreeze { nodes, clauses, for_secs, because } = wanted.0;
    check_reason(&because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    if !(1..=LONGEST_SECS).contains(&for_secs) {
        return Err(ApiError::invalid("for_secs", "a freeze lasts from 1 s to 90 days"));
    }
    if nodes.len() > MAX_NODES {
        return Err(ApiError::invalid(
            "nodes",
            format!("a freeze names at most {MAX_NODES} nodes; without any it is for all"),
        ));
    }
    check_clauses("a freeze", &clauses)?;
    let mut transaction = db.begin().await?;
    refuse_too_many(&mut transaction).await?;
    let names: Vec<String> = nodes.into_iter().collect();
    let ids = node::ids(&mut *transaction, &names).await?;
    if let Some(missing) = names.iter().find(|name| !ids.contains_key(*name)) {
        return Err(ApiError::Missing { what: "node", name: missing.clone() });
    }
    let until = crate::clock::now() + SignedDuration::from_secs(i64::try_from(for_secs).unwrap_or(i64::MAX));
    let ids: Vec<_> = ids.into_values().collect();
    if ids.is_empty() {
        caller.check_fleet("all nodes")?;
    }
    caller.check_nodes(&mut transaction, &ids).await?;
    let new =
        freeze::NewFreeze { who: &caller.person, because: &because, nodes: &ids, clauses: &clauses, until };
    let no = freeze::add(&mut transaction, &new).await?;
    wake_frozen(&mut transaction, &new, no).await?;
    let detail =
        json!({ "freeze": no, "nodes": names, "clauses": clauses, "until": until, "because": because });
    audit::add(&mut *transaction, &caller.person, "set a freeze", &format!("F{no}"), &detail).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    let shown = by_no(db, no).await?;
    // Unknown clauses are reported; they are looked up after the freeze is in force.
    let unknown_clauses = freeze::unknown(
        db.inner(),
        &shown.clauses,
        &shown.clauses.iter().map(|clause| as_like(clause)).collect::<Vec<_>>(),
    )
    .await;
    Ok(Json(FreezeShown { unknown_clauses: unknown_clauses.unwrap_or_default(), ..shown }))
}

/// A brake is told at once to those who can be woken.
async fn wake_frozen(db: &mut PgConnection, new: &freeze::NewFreeze<'_>, no: i64) -> sqlx::Result<()> {
    let all;
    let nodes = if new.nodes.is_empty() {
        all = listing::admitted_ids(&mut *db, &Narrowing::All).await?;
        &all
    } else {
        new.nodes
    };
    wake::add(db, new.who, Some(&format!("F{no}: {}", new.because)), nodes).await.map(drop)
}

/// Ends a freeze before its hour.
#[utoipa::path(tag = "freezes", security(("token" = ["freeze.set"]), ("session" = ["freeze.set"])), request_body = EndFreeze, responses((status = 200, body = FreezeShown)))]
#[post("/api/freezes/<no>/end", data = "<wanted>")]
pub async fn end(
    no: u32,
    wanted: JsonBody<EndFreeze>,
    caller: AllowedWithin<FreezeSet>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<FreezeShown> {
    if let Some(because) = &wanted.because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let before = by_no(db, i64::from(no)).await?;
    let mut transaction = db.begin().await?;
    if before.is_for_all {
        caller.check_fleet(&format!("F{no}, which is for all nodes"))?;
    }
    let ids: Vec<_> = node::ids(&mut *transaction, &before.nodes).await?.into_values().collect();
    caller.check_nodes(&mut transaction, &ids).await?;
    if !freeze::end(&mut *transaction, before.no, &caller.person, wanted.because.as_deref()).await? {
        let ended = before
            .ended_by
            .map_or_else(|| "it lasted until its hour".to_owned(), |by| format!("{by} ended it"));
        return Err(ApiError::Conflict {
            message: format!("F{no} is over: {ended}"),
            hint: "constans freeze list shows those in force".to_owned(),
        });
    }
    let detail = json!({ "freeze": no, "because": wanted.because });
    audit::add(&mut *transaction, &caller.person, "ended a freeze", &format!("F{no}"), &detail).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(by_no(db, before.no).await?))
}

/// Refuses one more freeze if there are too many.
///
/// # Errors
///
/// Returns that there are.
pub async fn refuse_too_many(db: &mut PgConnection) -> Result<(), ApiError> {
    if freeze::count(db).await? < MAX_IN_FORCE {
        return Ok(());
    }
    Err(ApiError::Conflict {
        message: format!("{MAX_IN_FORCE} freezes are in force already"),
        hint: "end one first: constans freeze list, constans freeze end".to_owned(),
    })
}

async fn by_no(db: &PgPool, no: i64) -> Result<FreezeShown, ApiError> {
    freeze::by_no(db, no)
        .await?
        .map(shown)
        .ok_or_else(|| ApiError::Missing { what: "freeze", name: format!("F{no}") })
}

fn shown(row: ListedRow) -> FreezeShown {
    let held_by = row.held_by.unsigned_abs();
    FreezeShown {
        no: row.no,
        who: row.who,
        because: row.because,
        set: row.set_at.to_jiff(),
        until: row.until_at.to_jiff(),
        ended: row.ended_at.map(|at| at.to_jiff()),
        ended_by: row.ended_by,
        is_for_all: row.is_for_all,
        nodes: row.nodes,
        clauses: row.clauses,
        unknown_clauses: Vec::new(),
        of: row.of_nodes.unsigned_abs(),
        held_by,
        last_by: row.last_by.map(|at| at.to_jiff()),
    }
}
