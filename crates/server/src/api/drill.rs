//! Drills: clauses of a node are broken on purpose.

use crate::body::JsonBody;
use crate::checkin::drill::read_offer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::drill::{self, DrillRow};
use crate::store::{audit, node, wake};
use crate::trust::{Allowed, AllowedWithin, NodeDrill, NodeRead};
use constans_core::run::{DRILL_LABEL, DRILLED_KINDS};
use constans_core::words::check_reason;
use constans_wire::drill::{Drill, MAX_CLAUSES, NewDrill};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::ops::RangeInclusive;
use std::slice;

/// A drill is offered to its node for so long: longer than the usual interval of check-ins.
const OFFERED_FOR: SignedDuration = SignedDuration::from_hours(1);
/// After so many seconds the agent undoes it.
const UNDONE_AFTER: RangeInclusive<u64> = 60..=86_400;

/// Has clauses of a node broken on purpose, to see them noticed and put right. It is woken.
///
/// The node has the label `drill=allowed`, and nothing keeps it from being changed. Files are withheld from those who are not their
/// owners, and services are stopped; what may cut the way to the server or changes who gets in is refused. The agent waits for its own
/// next run, unless one is to begin at once, and undoes by itself what nobody has put right in time, without the server too.
#[utoipa::path(tag = "nodes", security(("token" = ["node.drill"]), ("session" = ["node.drill"])), request_body = NewDrill, responses((status = 200, body = Drill)))]
#[post("/api/drills", data = "<wanted>")]
pub async fn begin(
    wanted: JsonBody<NewDrill>,
    caller: AllowedWithin<NodeDrill>,
    db: &State<PgPool>,
) -> Answer<Drill> {
    let new = wanted.0;
    check_reason(&new.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    check(&new)?;
    let mut transaction = db.begin().await?;
    let ids = node::ids(&mut *transaction, slice::from_ref(&new.node)).await?;
    let id = ids.get(&new.node).copied();
    let id = id.ok_or_else(|| ApiError::Missing { what: "node", name: new.node.clone() })?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    let (label, value) = DRILL_LABEL;
    if !drill::is_allowed(&mut *transaction, id).await? {
        return Err(ApiError::Conflict {
            message: format!("{} has no label {label}={value}: nothing is broken on it", new.node),
            hint: format!("constans node label {} --set {label}={value}", new.node),
        });
    }
    if let Some(no) = drill::open_of(&mut *transaction, id).await? {
        return Err(ApiError::Conflict {
            message: format!("the drill D{no} of {} is not over", new.node),
            hint: format!("constans drill --show D{no}"),
        });
    }
    super::wake::refuse_now(&mut transaction, 1).await?;
    let offered_until = crate::clock::now() + OFFERED_FOR;
    let no = drill::add(&mut *transaction, id, &new, &caller.person, offered_until).await?;
    wake::add(&mut transaction, &caller.person, Some(&format!("drill D{no}")), &[id]).await?;
    let about = json!({ "no": no, "clauses": new.clauses, "for_secs": new.for_secs, "now": new.now, "because": new.because });
    audit::add(&mut *transaction, &caller.person, "began a drill", &new.node, &about).await?;
    transaction.commit().await?;
    shown(found(db, no).await?).map(Json)
}

fn check(new: &NewDrill) -> Result<(), ApiError> {
    if !(1..=MAX_CLAUSES).contains(&new.clauses.len()) {
        return Err(ApiError::invalid("clauses", format!("from 1 to {MAX_CLAUSES} clauses are broken")));
    }
    if let Some(other) = new.clauses.iter().find(|address| !DRILLED_KINDS.contains(&address.kind())) {
        let kinds = DRILLED_KINDS.join(" and ");
        return Err(ApiError::invalid("clauses", format!("{other} is not of the kinds {kinds}")));
    }
    if !UNDONE_AFTER.contains(&new.for_secs) {
        return Err(ApiError::invalid(
            "for_secs",
            "it is undone after one minute at the soonest, and one day at the latest",
        ));
    }
    Ok(())
}

/// A drill, and what came of it: when it was broken, noticed, and put right or undone.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Drill)))]
#[get("/api/drills/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Drill> {
    shown(found(db, i64::from(no)).await?).map(Json)
}

async fn found(db: &PgPool, no: i64) -> Result<DrillRow, ApiError> {
    drill::by_no(db, no).await?.ok_or_else(|| ApiError::Missing { what: "drill", name: format!("D{no}") })
}

fn shown(row: DrillRow) -> Result<Drill, ApiError> {
    let what = format!("drill D{}", row.asked.no);
    Ok(Drill {
        asked: read_offer(row.asked)?,
        node: row.node_name,
        asked_at: row.asked_at.to_jiff(),
        offered_until: row.offered_until.to_jiff(),
        now_at: crate::clock::now(),
        was_waiting: row.was_waiting,
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        report: row.told.map(|told| read_stored(|| what, told)).transpose()?,
        over_at: row.over_at.map(|at| at.to_jiff()),
    })
}
