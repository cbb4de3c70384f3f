//! Self-tests: that a node is asked, fetches, compares and reports is proven without a desired state.

use crate::body::JsonBody;
use crate::checkin::self_test::made;
use crate::here::Here;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::self_test::{self, SelfTestRow};
use crate::store::{audit, node, wake};
use crate::trust::{Allowed, AllowedWithin, NodeRead, NodeWake};
use constans_core::self_test::{TestedClause, judge};
use constans_wire::self_test::{NewSelfTest, SelfTest, SelfTestReport};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::slice;
use std::sync::Arc;
use uuid::Uuid;

/// A self-test is offered to its node for so long: longer than the usual interval of check-ins.
const OFFERED_FOR: SignedDuration = SignedDuration::from_hours(1);

/// Asks a node for a self-test: it checks in, fetches a small state, compares it with its machine and reports.
///
/// Nothing on it is altered, and the test counts in no figure.
#[utoipa::path(tag = "nodes", security(("token" = ["node.wake"]), ("session" = ["node.wake"])), request_body = NewSelfTest, responses((status = 200, body = SelfTest)))]
#[post("/api/self-tests", data = "<wanted>")]
pub async fn test(
    wanted: JsonBody<NewSelfTest>,
    caller: AllowedWithin<NodeWake>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<SelfTest> {
    let name = wanted.0.node;
    let nonce = Uuid::now_v7().to_string();
    let state = made(nonce.clone(), here).await?.state.digest;
    let mut transaction = db.begin().await?;
    let ids = node::ids(&mut *transaction, slice::from_ref(&name)).await?;
    let id = ids.get(&name).copied();
    let id = id.ok_or_else(|| ApiError::Missing { what: "node", name: name.clone() })?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    super::wake::refuse_now(&mut transaction, 1).await?;
    let ends_at = crate::clock::now() + OFFERED_FOR;
    let new = self_test::NewSelfTest {
        node: id,
        who: &caller.person,
        ends_at,
        nonce: &nonce,
        state: state.as_str(),
    };
    let no = self_test::add(&mut *transaction, &new).await?;
    wake::add(&mut transaction, &caller.person, Some(&format!("self-test T{no}")), &[id]).await?;
    audit::add(&mut *transaction, &caller.person, "asked for a self-test", &name, &json!({ "no": no }))
        .await?;
    transaction.commit().await?;
    by_no(db, no).await.map(Json)
}

/// A self-test, step by step. It is kept for a week.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = SelfTest)))]
#[get("/api/self-tests/<no>")]
pub async fn tested(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<SelfTest> {
    by_no(db, i64::from(no)).await.map(Json)
}

async fn by_no(db: &PgPool, no: i64) -> Result<SelfTest, ApiError> {
    let row = self_test::by_no(db, no).await?;
    shown(row.ok_or_else(|| ApiError::Missing { what: "self-test", name: format!("T{no}") })?)
}

fn shown(row: SelfTestRow) -> Result<SelfTest, ApiError> {
    let report: Option<SelfTestReport> =
        row.report.map(|report| read_stored(|| format!("report of T{}", row.no), report)).transpose()?;
    let clauses: Vec<TestedClause> = report.as_ref().map(|report| judge(&report.seen)).unwrap_or_default();
    let is_proven = row.fetched_at.is_some()
        && report.as_ref().is_some_and(|report| report.failed.is_none())
        && clauses.iter().all(TestedClause::is_right);
    Ok(SelfTest {
        no: row.no,
        node: row.node,
        who: row.who,
        asked_at: row.asked_at.to_jiff(),
        ends_at: row.ends_at.to_jiff(),
        now: crate::clock::now(),
        was_waiting: row.was_waiting,
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        offered_at: row.offered_at.map(|at| at.to_jiff()),
        fetched_at: row.fetched_at.map(|at| at.to_jiff()),
        reported_at: row.reported_at.map(|at| at.to_jiff()),
        report,
        clauses,
        is_proven,
    })
}
