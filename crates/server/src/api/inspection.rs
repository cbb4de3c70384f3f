//! Inspections: a node is asked what is there.

use crate::body::JsonBody;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::inspection::{self, InspectionRow};
use crate::store::{audit, node, wake};
use crate::trust::{AllowedWithin, NodeInspect};
use constans_core::kind::{find, nearest};
use constans_core::words::check_reason;
use constans_wire::inspection::{Inspection, InspectionOffer, InspectionReport, NewInspection};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::slice;

/// An inspection is offered to its node for so long: longer than the usual interval of check-ins.
const OFFERED_FOR: SignedDuration = SignedDuration::from_hours(1);
/// This many inspections of one person wait at once.
const MAX_OPEN: i64 = 100;
/// This many characters has the name of a thing at most.
const LONGEST_NAME: usize = 4_096;

/// Asks a node what is there: one thing, or all of a kind. It is woken, and nothing on it is altered.
///
/// What not everybody on the node may read is not told. Who asked, for what and why, is kept in the audit trail; what was told, for a day.
#[utoipa::path(tag = "nodes", security(("token" = ["node.inspect"]), ("session" = ["node.inspect"])), request_body = NewInspection, responses((status = 200, body = Inspection)))]
#[post("/api/inspections", data = "<wanted>")]
pub async fn ask(
    wanted: JsonBody<NewInspection>,
    caller: AllowedWithin<NodeInspect>,
    db: &State<PgPool>,
) -> Answer<Inspection> {
    let NewInspection { node: name, kind, name: thing, because } = wanted.0;
    check_reason(&because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    if find(&kind).is_none() {
        let near = nearest(&kind).map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return Err(ApiError::invalid("kind", format!("there is no kind `{kind}`{near}")));
    }
    let is_name = |thing: &String| {
        (1..=LONGEST_NAME).contains(&thing.chars().count()) && !thing.contains(char::is_control)
    };
    if !thing.as_ref().is_none_or(is_name) {
        let because =
            format!("a name has from 1 to {LONGEST_NAME} characters, and none that controls a terminal");
        return Err(ApiError::invalid("name", because));
    }
    let mut transaction = db.begin().await?;
    let ids = node::ids(&mut *transaction, slice::from_ref(&name)).await?;
    let id = ids.get(&name).copied();
    let id = id.ok_or_else(|| ApiError::Missing { what: "node", name: name.clone() })?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    super::wake::refuse_now(&mut transaction, 1).await?;
    if inspection::count_open(&mut *transaction, &caller.person).await? >= MAX_OPEN {
        return Err(ApiError::Conflict {
            message: format!("{MAX_OPEN} inspections of {} wait already", caller.person),
            hint: "each waits for an hour; let the nodes come first".to_owned(),
        });
    }
    let new = inspection::NewInspection {
        node: id,
        kind: &kind,
        name: thing.as_deref(),
        who: &caller.person,
        because: &because,
        ends_at: crate::clock::now() + OFFERED_FOR,
    };
    let no = inspection::add(&mut *transaction, &new).await?;
    wake::add(&mut transaction, &caller.person, Some(&format!("inspection I{no}")), &[id]).await?;
    let about = json!({ "no": no, "kind": kind, "name": thing, "because": because });
    audit::add(&mut *transaction, &caller.person, "inspected a node", &name, &about).await?;
    transaction.commit().await?;
    shown(found(db, no).await?).map(Json)
}

/// An inspection, and what the node told.
#[utoipa::path(tag = "nodes", security(("token" = ["node.inspect"]), ("session" = ["node.inspect"])), responses((status = 200, body = Inspection)))]
#[get("/api/inspections/<no>")]
pub async fn show(no: u32, caller: AllowedWithin<NodeInspect>, db: &State<PgPool>) -> Answer<Inspection> {
    let row = found(db, i64::from(no)).await?;
    caller.check_nodes(&mut *db.acquire().await?, &[row.node]).await?;
    shown(row).map(Json)
}

async fn found(db: &PgPool, no: i64) -> Result<InspectionRow, ApiError> {
    let row = inspection::by_no(db, no).await?;
    row.ok_or_else(|| ApiError::Missing { what: "inspection", name: format!("I{no}") })
}

fn shown(row: InspectionRow) -> Result<Inspection, ApiError> {
    let report = row.report.map(|report| read_stored(|| format!("report of I{}", row.no), report));
    let report: Option<InspectionReport> = report.transpose()?;
    Ok(Inspection {
        asked: InspectionOffer { no: row.no, kind: row.kind, name: row.name },
        node: row.node_name,
        who: row.who,
        because: row.because,
        asked_at: row.asked_at.to_jiff(),
        ends_at: row.ends_at.to_jiff(),
        now: crate::clock::now(),
        was_waiting: row.was_waiting,
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        told_at: row.told_at.map(|at| at.to_jiff()),
        text: report.as_ref().map(InspectionReport::text),
        report,
    })
}
