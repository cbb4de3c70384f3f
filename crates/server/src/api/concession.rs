//! Concessions: one person asks to deviate, another approves it, until a day.

use super::clause_patterns::{as_like, check_clauses};
use super::freeze::refuse_too_many;
use crate::body::JsonBody;
use crate::followed::nodes_of;
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::concession::{self, AskedRow, ListedRow};
use crate::store::narrowing::Narrowing;
use crate::store::{audit, node};
use crate::trust::{Allowed, AllowedWithin, ConcessionAsk, ConcessionDecide, NodeRead};
use constans_core::filter::CONCESSIONS;
use constans_core::words::check_reason;
use constans_wire::concession::{
    ApproveConcession, CloseConcession, Concession, ConcessionAct, ConcessionCoverage, ConcessionStatus,
    NewConcession,
};
use jiff::SignedDuration;
use jiff_sqlx::Timestamp as SqlTimestamp;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use uuid::Uuid;

/// The longest concession: a year.
const LONGEST: SignedDuration = SignedDuration::from_hours(366 * 24);
/// This many wait or are in force at once: the filter of each is evaluated for all nodes, each minute.
const MAX_OPEN: i64 = 500;
/// This many nodes are named by one concession.
const MAX_NODES: usize = 1_000;

/// The concessions that wait for approval or are in force, or all, the newest first.
#[utoipa::path(tag = "concessions", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("also_over" = Option<bool>, Query, description = "Also those that are over, were refused, withdrawn or ended"), ListQuery), responses((status = 200, body = Vec<Concession>)))]
#[get("/api/concessions?<also_over>&<list..>")]
pub async fn list(
    also_over: bool,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<Concession> {
    let read = |range| async move {
        placed(concession::list(db.inner(), &range, also_over).await?, ListedRow::cursor, shown)
    };
    list.page(&CONCESSIONS, read).await
}

/// A concession.
#[utoipa::path(tag = "concessions", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Concession)))]
#[get("/api/concessions/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Concession> {
    Ok(Json(by_no(&mut *db.acquire().await?, no.into()).await?))
}

/// Asks for a concession, or returns what it would cover. Another person approves it.
#[utoipa::path(tag = "concessions", security(("token" = ["concession.ask"]), ("session" = ["concession.ask"])), request_body = NewConcession, responses((status = 200, body = Concession)))]
#[post("/api/concessions", data = "<wanted>")]
pub async fn ask(
    wanted: JsonBody<NewConcession>,
    caller: AllowedWithin<ConcessionAsk>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Concession> {
    let wanted = wanted.0;
    check(&wanted)?;
    let clauses: Vec<String> = wanted.clauses.iter().cloned().collect();
    let patterns: Vec<String> = clauses.iter().map(|clause| as_like(clause)).collect();
    let mut transaction = db.begin().await?;
    let nodes = match &wanted.filter {
        Some(filter) => {
            caller.check_fleet("whatever node a filter matches: name the nodes")?;
            nodes_of(&mut transaction, filter).await?
        }
        None => {
            let ids = named(&mut transaction, &wanted.nodes.iter().cloned().collect::<Vec<_>>()).await?;
            caller.check_nodes(&mut transaction, &ids).await?;
            Narrowing::Only(ids)
        }
    };
    let asked = AskedRow {
        clauses: &clauses,
        patterns: &patterns,
        filter: wanted.filter.as_deref().filter(|_| !wanted.only_present_nodes),
        because: &wanted.because,
        covers_unknown: wanted.covers_unknown,
        asked_by: &caller.person,
        until: wanted.until,
    };
    let no = concession::add(&mut transaction, &asked).await?;
    if concession::count_open(&mut *transaction).await? > MAX_OPEN {
        return Err(ApiError::Conflict {
            message: format!("{MAX_OPEN} concessions wait or are in force already"),
            hint: "end or refuse one first: constans concession list".to_owned(),
        });
    }
    concession::cover(&mut transaction, no, &nodes).await?;
    let shown = by_no(&mut transaction, no).await?;
    if wanted.preview {
        transaction.rollback().await?;
        return Ok(Json(Concession { no: 0, ..shown }));
    }
    if shown.filter.is_none() && shown.coverage.nodes == 0 {
        return Err(ApiError::invalid("filter", "no node matches it now, and it is only for those that do"));
    }
    let detail = json!({
        "concession": no, "clauses": wanted.clauses, "nodes": wanted.nodes, "filter": wanted.filter, "only_present_nodes": wanted.only_present_nodes,
        "until": wanted.until, "because": wanted.because, "covers_unknown": wanted.covers_unknown,
    });
    audit::add(&mut *transaction, &caller.person, "asked for a concession", &format!("D{no}"), &detail)
        .await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(shown))
}

fn check(wanted: &NewConcession) -> Result<(), ApiError> {
    check_reason(&wanted.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    if wanted.clauses.is_empty() {
        return Err(ApiError::invalid("clauses", "name the clauses that may deviate"));
    }
    check_clauses("a concession", &wanted.clauses)?;
    let now = crate::clock::now();
    if wanted.until <= now {
        return Err(ApiError::invalid("until", format!("{} is over: it is {now} now", wanted.until)));
    }
    if wanted.until > now + LONGEST {
        return Err(ApiError::invalid(
            "until",
            format!("at most a year: until {} at the latest", now + LONGEST),
        ));
    }
    match (&wanted.filter, wanted.nodes.len()) {
        (Some(_), 0) | (None, 1..=MAX_NODES) => {}
        (Some(_), _) => {
            return Err(ApiError::invalid("nodes", "it is for named nodes or has a filter, not both"));
        }
        (None, 0) => {
            return Err(ApiError::invalid(
                "nodes",
                "say for which nodes it is, by name or by a filter; for all nodes the filter is `true`",
            ));
        }
        (None, _) => {
            return Err(ApiError::invalid(
                "nodes",
                format!("a concession names at most {MAX_NODES} nodes; take a filter"),
            ));
        }
    }
    if wanted.only_present_nodes && wanted.filter.is_none() {
        return Err(ApiError::invalid("only_present_nodes", "it goes with a filter"));
    }
    Ok(())
}

async fn named(db: &mut PgConnection, names: &[String]) -> Result<Vec<Uuid>, ApiError> {
    let ids = node::ids(db, names).await?;
    match names.iter().find(|name| !ids.contains_key(*name)) {
        Some(missing) => Err(ApiError::Missing { what: "node", name: missing.clone() }),
        None => Ok(ids.into_values().collect()),
    }
}

/// Refuses who decides only about the nodes of some groups, if a concession is for others too, or for whatever node matches.
async fn check_decider(
    db: &mut PgConnection,
    asked: &Concession,
    decider: &AllowedWithin<ConcessionDecide>,
) -> Result<(), ApiError> {
    if asked.filter.is_some() {
        return decider.check_fleet(&format!("D{}, which is for whatever node matches", asked.no));
    }
    // One that was retired since is not among them.
    let ids: Vec<Uuid> = node::ids(&mut *db, &asked.nodes).await?.into_values().collect();
    decider.check_nodes(db, &ids).await
}

/// Approves a concession that another person asked for, and sets a freeze of what it covers unless it is left out.
#[utoipa::path(tag = "concessions", security(("token" = ["concession.decide"]), ("session" = ["concession.decide"])), request_body = ApproveConcession, responses((status = 200, body = Concession)))]
#[post("/api/concessions/<no>/approve", data = "<approval>")]
pub async fn approve(
    no: u32,
    approval: JsonBody<ApproveConcession>,
    caller: AllowedWithin<ConcessionDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Concession> {
    let ApproveConcession { without_freeze, because } = approval.0;
    if let Some(because) = &because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let mut transaction = db.begin().await?;
    decide(&mut transaction, no, &caller, true, because.as_deref()).await?;
    let asked = by_no(&mut transaction, no.into()).await?;
    // Between the last look at its filter and now nodes may have come or gone.
    if let Some(filter) = &asked.filter {
        let nodes = nodes_of(&mut transaction, filter).await?;
        concession::cover(&mut transaction, no.into(), &nodes).await?;
    }
    if !without_freeze {
        refuse_too_many(&mut transaction).await?;
        let because = format!("D{no} allows it: {}", asked.asked.because.as_deref().unwrap_or_default());
        let because: String = because.chars().take(500).collect();
        concession::add_freeze(&mut *transaction, no.into(), &caller.person, &because).await?;
    }
    let shown = by_no(&mut transaction, no.into()).await?;
    let detail = json!({
        "concession": no, "asked_by": shown.asked.who, "because": because, "freeze": shown.freeze, "nodes": shown.coverage.nodes, "until": shown.until,
    });
    audit::add(&mut *transaction, &caller.person, "approved a concession", &format!("D{no}"), &detail)
        .await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(shown))
}

/// Refuses a concession that another person asked for, with a reason.
#[utoipa::path(tag = "concessions", security(("token" = ["concession.decide"]), ("session" = ["concession.decide"])), request_body = CloseConcession, responses((status = 200, body = Concession)))]
#[post("/api/concessions/<no>/refuse", data = "<refusal>")]
pub async fn refuse(
    no: u32,
    refusal: JsonBody<CloseConcession>,
    caller: AllowedWithin<ConcessionDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Concession> {
    check_reason(&refusal.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    let mut transaction = db.begin().await?;
    decide(&mut transaction, no, &caller, false, Some(&refusal.because)).await?;
    let detail = json!({ "concession": no, "because": refusal.because });
    audit::add(&mut *transaction, &caller.person, "refused a concession", &format!("D{no}"), &detail).await?;
    let shown = by_no(&mut transaction, no.into()).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(shown))
}

async fn decide(
    db: &mut PgConnection,
    no: u32,
    decider: &AllowedWithin<ConcessionDecide>,
    is_approved: bool,
    because: Option<&str>,
) -> Result<(), ApiError> {
    let asked = by_no(db, no.into()).await?;
    check_decider(db, &asked, decider).await?;
    let by = &decider.person;
    if asked.status != ConcessionStatus::Asked {
        return Err(ApiError::Conflict {
            message: format!("D{no} does not wait for approval: it is {}", asked.status.words()),
            hint: "constans concession list --also-over shows all of them".to_owned(),
        });
    }
    if asked.asked.who == *by {
        return Err(ApiError::Conflict {
            message: format!("you asked for D{no} yourself: another person decides it"),
            hint: format!(
                "whoever holds concession.decide: constans concession approve D{no}; to withdraw it: constans concession end D{no}"
            ),
        });
    }
    if !concession::decide(db, no.into(), by, is_approved, because).await? {
        return Err(ApiError::Conflict {
            message: format!("somebody else decided D{no} at the same time"),
            hint: "constans concession list --also-over shows what".to_owned(),
        });
    }
    Ok(())
}

/// Ends a concession that is in force, and the freeze with it; or withdraws one that waits: one's own, or as one who decides them.
#[utoipa::path(tag = "concessions", security(("token" = ["concession.ask"]), ("session" = ["concession.ask"])), request_body = CloseConcession, responses((status = 200, body = Concession)))]
#[post("/api/concessions/<no>/end", data = "<end>")]
pub async fn end(
    no: u32,
    end: JsonBody<CloseConcession>,
    caller: AllowedWithin<ConcessionAsk>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Concession> {
    check_reason(&end.because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    let mut transaction = db.begin().await?;
    let before = by_no(&mut transaction, no.into()).await?;
    let is_own = before.asked.who == caller.person;
    if !is_own {
        let person = caller.person.clone();
        let not_allowed = || ApiError::NotAllowed { person, permission: "concession.decide" };
        let decider = caller.also::<ConcessionDecide>().ok_or_else(not_allowed)?;
        check_decider(&mut transaction, &before, &decider).await?;
    }
    if !concession::end(&mut transaction, no.into(), &caller.person, &end.because).await? {
        return Err(ApiError::Conflict {
            message: format!("D{no} can no longer be ended: it is {}", before.status.words()),
            hint: "constans concession list shows those that wait or are in force".to_owned(),
        });
    }
    let did =
        if before.status == ConcessionStatus::Asked { "withdrew a concession" } else { "ended a concession" };
    let detail = json!({ "concession": no, "because": end.because });
    audit::add(&mut *transaction, &caller.person, did, &format!("D{no}"), &detail).await?;
    let shown = by_no(&mut transaction, no.into()).await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(shown))
}

async fn by_no(db: &mut PgConnection, no: i64) -> Result<Concession, ApiError> {
    let row = concession::by_no(db, no).await?;
    shown(row.ok_or_else(|| ApiError::Missing { what: "concession", name: format!("D{no}") })?)
}

fn act(who: Option<String>, at: Option<SqlTimestamp>, because: Option<String>) -> Option<ConcessionAct> {
    Some(ConcessionAct { who: who?, at: at?.to_jiff(), because })
}

fn shown(row: ListedRow) -> Result<Concession, ApiError> {
    Ok(Concession {
        no: row.no,
        status: read_stored(|| format!("status of D{}", row.no), row.status.into())?,
        clauses: row.clauses,
        unknown_clauses: row.unknown_clauses,
        filter: row.filter,
        nodes: row.nodes,
        covers_unknown: row.covers_unknown,
        asked: ConcessionAct { who: row.asked_by, at: row.asked_at.to_jiff(), because: Some(row.because) },
        until: row.until_at.to_jiff(),
        decided: act(row.decided_by, row.decided_at, row.decided_because),
        ended: act(row.ended_by, row.ended_at, row.ended_because),
        freeze: row.freeze,
        coverage: ConcessionCoverage {
            nodes: row.of_nodes.unsigned_abs(),
            clauses: row.of_clauses.unsigned_abs(),
            noncompliant: row.noncompliant.unsigned_abs(),
            nodes_noncompliant: row.nodes_noncompliant.unsigned_abs(),
            to_correct: row.to_correct.unsigned_abs(),
        },
    })
}
