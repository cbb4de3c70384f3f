//! Sweeps: looked at, begun, followed, stopped, compared.

use super::overview::narrowed;
use super::wake::refuse_now;
use crate::body::JsonBody;
use crate::here::Here;
use crate::list::{ListQuery, place_and_name, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError};
use crate::store::cursor::PageRange;
use crate::store::sweep::{self as stored, FoundRow, NewNode, NewRow, NodeRow, SweepRow};
use crate::store::{audit, listing, node, notice};
use crate::sweep::{self, PlannedTarget, failures, plan, shown_node, shown_sweep};
use crate::trust::{Allowed, AllowedWithin, NodeRead, Permission, RunCorrectOnce, RunNow, RunOutsideWindow};
use constans_core::filter::{SWEEPS, SWEPT_NODES};
use constans_core::run::Mode;
use constans_core::words::check_reason;
use constans_wire::sweep::{
    NamedNodes, NewSweep, Sweep, SweepBegun, SweepComparison, SweepFailure, SweptNode,
};
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::PgPool;
use std::collections::HashMap;
use std::sync::Arc;
use uuid::Uuid;

/// This many nodes are named by one sweep; a filter selects any number.
const MAX_NAMED: usize = 1_000;
/// Nodes may begin a sweep for at least so long, and at most for a week.
const SHORTEST_SECS: u64 = 60;
const LONGEST_SECS: u64 = 7 * 86_400;
/// And begins no later than this.
const LATEST: SignedDuration = SignedDuration::from_hours(31 * 24);
/// So many sweeps are begun within a minute, by whomever.
const MAX_WITHIN_A_MINUTE: i64 = 30;
/// So many nodes are named in a comparison.
const MAX_COMPARED: usize = 50;
/// Of the names of nodes so many are told.
const TOLD_NAMES: usize = 3;

/// Begins a sweep, or only looks at what one would do: runs at once over chosen nodes.
///
/// Those that can be woken begin within seconds, the others with their next check-ins. More than one node is enforced only after it was
/// observed (`after`), unless `directly` is set.
#[utoipa::path(tag = "sweeps", security(("token" = ["run.now"]), ("session" = ["run.now"])), request_body = NewSweep, responses((status = 200, body = SweepBegun)))]
#[post("/api/sweeps", data = "<wanted>")]
pub async fn begin(
    wanted: JsonBody<NewSweep>,
    caller: AllowedWithin<RunNow>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<SweepBegun> {
    let mut wanted = wanted.0;
    check_reason(&wanted.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    if !(SHORTEST_SECS..=LONGEST_SECS).contains(&wanted.for_secs) {
        return Err(ApiError::invalid("for_secs", "a sweep goes on for a minute to a week"));
    }
    let now = crate::clock::now();
    let begins_at = wanted.begins_at.unwrap_or(now).max(now);
    if begins_at > now + LATEST {
        return Err(ApiError::invalid("begins_at", "a sweep begins within 31 days"));
    }
    let observed = match wanted.after {
        None => None,
        Some(no) => Some(observed_by(db, no, &mut wanted).await?),
    };
    wanted.order.check().map_err(|(field, wrong)| ApiError::invalid(field, wrong))?;
    super::clause_patterns::check_clauses("a sweep", &wanted.order.part.clauses)?;
    let (ids, which) = selected(db, &wanted, observed.as_ref()).await?;
    let mut connection = db.acquire().await?;
    caller.check_nodes(&mut connection, &ids).await?;
    if wanted.order.now {
        also::<RunOutsideWindow>(&caller)?.check_nodes(&mut connection, &ids).await?;
    }
    if wanted.order.correct_once {
        also::<RunCorrectOnce>(&caller)?.check_nodes(&mut connection, &ids).await?;
    }
    drop(connection);
    let to_correct: Option<HashMap<Uuid, u64>> = observed
        .as_ref()
        .map(|rows| rows.iter().map(|row| (row.node, u64::from(row.would.unsigned_abs()))).collect());
    let planned = plan(db, &wanted.order, &ids, to_correct.as_ref(), begins_at).await?;
    if wanted.preview {
        return Ok(Json(SweepBegun { no: None, plan: planned.plan }));
    }
    let is_unseen = wanted.order.mode == Mode::Enforce && !wanted.directly && observed.is_none();
    if is_unseen && planned.targets.len() > 1 {
        return Err(ApiError::Conflict {
            message: format!("{} nodes would be enforced without being observed first", planned.targets.len()),
            hint: "observe them by a sweep, then enforce exactly what it found (`after`), or say that it is to be done directly".to_owned(),
        });
    }
    if planned.plan.asked == 0 {
        let why = planned.plan.each.iter().find_map(|node| Some((node.name.clone(), node.refused.clone()?)));
        let why = why.map_or(String::new(), |(name, why)| format!("; {name}: {}", why.write_dated()));
        return Err(ApiError::Conflict {
            message: format!("no node would do anything of it{why}"),
            hint: "look at it first: constans sweep … --preview".to_owned(),
        });
    }
    let no = add(&wanted, begins_at, &which, planned.targets, observed, &caller.person, db).await?;
    if begins_at <= now {
        // Its nodes are woken at once.
        while sweep::begin(db).await? {}
    }
    here.waker.wake(notice::SWEEPS);
    Ok(Json(SweepBegun { no: Some(no), plan: planned.plan }))
}

/// Returns the caller as one who may also do what `Q` permits.
fn also<Q: Permission>(caller: &AllowedWithin<RunNow>) -> Result<AllowedWithin<Q>, ApiError> {
    let refused = || ApiError::NotAllowed { person: caller.person.clone(), permission: Q::NAME };
    caller.also::<Q>().ok_or_else(refused)
}

/// Returns what the nodes of an observing sweep reported that is to be corrected, and takes its part over.
async fn observed_by(db: &PgPool, no: i64, wanted: &mut NewSweep) -> Result<Vec<FoundRow>, ApiError> {
    let before = by_no(db, no).await?;
    if before.order.mode != Mode::Observe {
        return Err(ApiError::invalid("after", format!("S{no} is no observing sweep")));
    }
    if wanted.order.mode != Mode::Enforce {
        return Err(ApiError::invalid("after", "an enforcing sweep corrects what another one observed"));
    }
    if !wanted.nodes.is_empty() || wanted.filter.is_some() {
        return Err(ApiError::invalid("after", format!("its nodes are those of S{no}: name no others")));
    }
    wanted.order.part = before.order.part;
    wanted.order.correct_once = before.order.correct_once;
    wanted.order.now |= before.order.now;
    let mut rows = stored::found_by(db, no).await?;
    rows.retain(|row| row.would > 0);
    if rows.is_empty() {
        return Err(ApiError::Conflict {
            message: format!("no node of S{no} has reported anything that would be corrected"),
            hint: format!("constans sweep show S{no}"),
        });
    }
    Ok(rows)
}

async fn selected(
    db: &PgPool,
    wanted: &NewSweep,
    observed: Option<&Vec<FoundRow>>,
) -> Result<(Vec<Uuid>, String), ApiError> {
    let (ids, which): (Vec<Uuid>, String) = match (observed, wanted.nodes.is_empty(), &wanted.filter) {
        (Some(rows), ..) => {
            (rows.iter().map(|row| row.node).collect(), told_names(rows.iter().map(|row| row.name.as_str())))
        }
        (None, false, None) => {
            if wanted.nodes.len() > MAX_NAMED {
                let why = format!("at most {MAX_NAMED} nodes are named; select more by a filter");
                return Err(ApiError::invalid("nodes", why));
            }
            let names: Vec<String> = wanted.nodes.iter().cloned().collect();
            let ids = node::ids(db, &names).await?;
            if let Some(missing) = names.iter().find(|name| !ids.contains_key(*name)) {
                return Err(ApiError::Missing { what: "node", name: missing.clone() });
            }
            (ids.into_values().collect(), told_names(names.iter().map(String::as_str)))
        }
        (None, true, Some(filter)) => {
            let narrowed = narrowed(db, Some(filter), crate::clock::now()).await?;
            let which = if filter.trim().is_empty() { "all nodes" } else { filter.trim() };
            (listing::admitted_ids(db, &narrowed.by).await?, which.to_owned())
        }
        _ => return Err(ApiError::invalid("nodes", "give one of nodes, filter and after")),
    };
    if ids.is_empty() {
        return Err(ApiError::Conflict {
            message: "there is no such node".to_owned(),
            hint: "constans node list --filter shows what a filter selects".to_owned(),
        });
    }
    Ok((ids, which))
}

fn told_names<'n>(names: impl ExactSizeIterator<Item = &'n str>) -> String {
    let more = names.len().saturating_sub(TOLD_NAMES);
    let told = names.take(TOLD_NAMES).collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{told} and {more} more") } else { told }
}

async fn add(
    wanted: &NewSweep,
    begins_at: Timestamp,
    which: &str,
    targets: Vec<PlannedTarget>,
    observed: Option<Vec<FoundRow>>,
    by: &str,
    db: &PgPool,
) -> Result<i64, ApiError> {
    let mut observed: HashMap<Uuid, FoundRow> =
        observed.into_iter().flatten().map(|row| (row.node, row)).collect();
    let nodes: Vec<NewNode> = targets
        .into_iter()
        .map(|target| {
            let row = observed.remove(&target.id);
            NewNode {
                node: target.id,
                would: row.as_ref().map_or(0, |row| row.would),
                observed: row.and_then(|row| row.found),
                refused: target.refused.map(|refused| json!(refused)),
            }
        })
        .collect();
    let asked: Vec<Uuid> = nodes.iter().filter(|node| node.refused.is_none()).map(|node| node.node).collect();
    let ends_at = begins_at + SignedDuration::from_secs(i64::try_from(wanted.for_secs).unwrap_or(0));
    let body = json!(wanted.order);
    let mut transaction = db.begin().await?;
    refuse_now(&mut transaction, asked.len()).await?;
    let minute_ago = crate::clock::now() - SignedDuration::from_mins(1);
    if stored::count_since(&mut *transaction, minute_ago).await? >= MAX_WITHIN_A_MINUTE {
        return Err(ApiError::Conflict {
            message: format!("{MAX_WITHIN_A_MINUTE} sweeps were begun within a minute"),
            hint: "name all the nodes at once, or select them by a filter".to_owned(),
        });
    }
    let new = NewRow {
        id: Uuid::now_v7(),
        body: &body,
        which,
        who: by,
        because: &wanted.because,
        begins_at,
        ends_at,
        follows: wanted.after,
        nodes: &nodes,
    };
    let no = stored::add(&mut transaction, &new).await?;
    let detail = json!({
        "order": body, "which": which, "after": wanted.after, "nodes": nodes.len(), "asked": asked.len(),
        "directly": wanted.directly, "from": begins_at, "until": ends_at, "because": wanted.because,
    });
    audit::add(&mut *transaction, by, "began a sweep", &format!("S{no}"), &detail).await?;
    transaction.commit().await?;
    Ok(no)
}

/// The sweeps, the newest first.
#[utoipa::path(tag = "sweeps", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<Sweep>)))]
#[get("/api/sweeps?<list..>")]
pub async fn list(list: ListQuery, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> PageAnswer<Sweep> {
    let db = db.inner();
    let read = |range: PageRange| async move {
        placed(stored::list(db, &range).await?, SweepRow::cursor, shown_sweep)
    };
    list.page(&SWEEPS, read).await
}

/// A sweep, and what came of it so far.
#[utoipa::path(tag = "sweeps", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Sweep)))]
#[get("/api/sweeps/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Sweep> {
    Ok(Json(by_no(db, i64::from(no)).await?))
}

async fn by_no(db: &PgPool, no: i64) -> Result<Sweep, ApiError> {
    let row = stored::by_no(db, no).await?;
    shown_sweep(row.ok_or_else(|| ApiError::Missing { what: "sweep", name: format!("S{no}") })?)
}

/// The nodes of a sweep: those on which something failed first, then those that run, those on which something was left, those that are
/// waited for, and those in line; each by name.
#[utoipa::path(tag = "sweeps", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<SweptNode>)))]
#[get("/api/sweeps/<no>/nodes?<list..>")]
pub async fn nodes(
    no: u32,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<SweptNode> {
    let db = db.inner();
    let no = by_no(db, i64::from(no)).await?.no;
    let read = |range: PageRange| async move {
        let now = crate::clock::now();
        let rows = stored::nodes(db, no, place_and_name(&range)?, range.rows()).await?;
        placed(rows, NodeRow::cursor, |row| shown_node(row, now))
    };
    list.page(&SWEPT_NODES, read).await
}

/// What failed in a sweep, by clause and message: what failed on most nodes first, at most 200.
#[utoipa::path(tag = "sweeps", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<SweepFailure>)))]
#[get("/api/sweeps/<no>/failures")]
pub async fn failed(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<SweepFailure>> {
    let no = by_no(db, i64::from(no)).await?.no;
    Ok(Json(failures(db, no).await?))
}

/// Stops a sweep: nodes that have not begun it never do, those that run begin no further clause.
#[utoipa::path(tag = "sweeps", security(("token" = ["run.now"]), ("session" = ["run.now"])), responses((status = 200, body = Sweep)))]
#[post("/api/sweeps/<no>/stop")]
pub async fn stop(
    no: u32,
    caller: AllowedWithin<RunNow>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Sweep> {
    let no = by_no(db, i64::from(no)).await?.no;
    let mut transaction = db.begin().await?;
    let open = stored::open_nodes(&mut *transaction, no).await?;
    caller.check_nodes(&mut transaction, &open).await?;
    if !stored::stop(&mut *transaction, no, &caller.person).await? {
        return Err(ApiError::Conflict {
            message: format!("S{no} is over already"),
            hint: format!("constans sweep show S{no}"),
        });
    }
    audit::add(&mut *transaction, &caller.person, "stopped a sweep", &format!("S{no}"), &json!({})).await?;
    transaction.commit().await?;
    here.waker.wake(notice::SWEEPS);
    Ok(Json(by_no(db, no).await?))
}

/// What two sweeps came to, on the nodes that reported in both.
#[utoipa::path(tag = "sweeps", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("with" = u32, Query, description = "The earlier sweep")), responses((status = 200, body = SweepComparison)))]
#[get("/api/sweeps/<no>/comparison?<with>")]
pub async fn compare(
    no: u32,
    with: u32,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<SweepComparison> {
    let (before, after) = (by_no(db, i64::from(with)).await?, by_no(db, i64::from(no)).await?);
    let rows = stored::compared(db.inner(), before.no, after.no).await?;
    let named = |was: bool, is: bool| {
        let names: Vec<String> = rows
            .iter()
            .filter(|row| (row.was_in_line, row.is_in_line) == (was, is))
            .map(|row| row.name.clone())
            .collect();
        NamedNodes { nodes: names.len() as u64, names: names.into_iter().take(MAX_COMPARED).collect() }
    };
    let (failed_before, failures_now) = (failures(db, before.no).await?, failures(db, after.no).await?);
    let is_there =
        |one: &SweepFailure| failures_now.iter().any(|other| other.failed.address == one.failed.address);
    let failures_over = failed_before.into_iter().filter(|one| !is_there(one)).collect();
    Ok(Json(SweepComparison {
        both: rows.len() as u64,
        in_line_now: named(false, true),
        out_of_line_now: named(true, false),
        out_of_line_still: named(false, false),
        failures_over,
        failures_now,
        before,
        after,
    }))
}
