//! A node clause by clause: what is wanted, and how it is as of its last full run.

use super::run::whole_report;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::{concession, effective_state, node, run, wanted};
use crate::trust::{Allowed, NodeRead};
use constans_core::attention::ExceptionSort;
use constans_core::hours::WeeklyHours;
use constans_core::run::{ClauseResult, Outcome, Status};
use constans_core::state::{Clause, EffectiveState, LeftBehind, Origin, left_behind};
use constans_wire::overview::{ConcededBy, NodeClause, NodeClauses};
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;
use std::collections::BTreeMap;

/// The clauses of a node in their order, with desired properties and the result of the last full run.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = NodeClauses)))]
#[get("/api/nodes/<name>/clauses")]
pub async fn list(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<NodeClauses> {
    let id = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let Some((run_id, digest)) = run::last_full(db.inner(), id).await? else {
        return Ok(Json(NodeClauses::default()));
    };
    let state = effective_state::by_digest(db.inner(), &digest)
        .await?
        .map(|state| read_state(&digest, state))
        .transpose()?;
    let report = whole_report(db.inner(), id, &run_id.to_string()).await?;
    let since = run::exceptions_since(db.inner(), id).await?;
    let mut clauses: Vec<NodeClause> = match (&report, &state) {
        (Some(report), _) => {
            report.clauses.iter().map(|result| of_result(result, state.as_ref(), &since)).collect()
        }
        // A run that was not kept whole had nothing to report: its whole state was in line.
        (None, Some(state)) => state.clauses.iter().map(all_is_well).collect(),
        (None, None) => Vec::new(),
    };
    let addresses: Vec<String> = clauses.iter().map(|clause| clause.address.clone()).collect();
    for row in concession::of_node(db.inner(), id, &addresses).await? {
        let by = ConcededBy { no: row.no, until: row.until_at.to_jiff(), because: row.because };
        clauses
            .iter_mut()
            .filter(|clause| clause.address == row.address)
            .for_each(|clause| clause.conceded_by.push(by.clone()));
    }
    Ok(Json(NodeClauses { run: report.map(|_| run_id), state: Some(digest), clauses }))
}

/// Things that the node keeps of clauses that are no longer desired.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<LeftBehind>)))]
#[get("/api/nodes/<name>/left-behind")]
pub async fn left(name: &str, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<LeftBehind>> {
    let id = node::by_name(db.inner(), name)
        .await?
        .ok_or_else(|| ApiError::Missing { what: "node", name: name.to_owned() })?;
    let Some(digest) = wanted::of(db.inner(), id).await?.and_then(|row| row.state) else {
        return Ok(Json(Vec::new()));
    };
    let Some(present) = effective_state::by_digest(db.inner(), &digest).await? else {
        return Ok(Json(Vec::new()));
    };
    let read = |body| read_stored::<EffectiveState>(|| format!("state that {name} had"), body);
    let past = effective_state::past(db.inner(), id).await?;
    let past = past
        .into_iter()
        .map(|(body, until)| Ok((read(body)?, until.to_jiff())))
        .collect::<Result<Vec<_>, ApiError>>()?;
    Ok(Json(left_behind(&past, &read_state(&digest, present)?)))
}

fn read_state(digest: &str, state: serde_json::Value) -> Result<EffectiveState, ApiError> {
    read_stored(|| format!("state {digest}"), state)
}

fn of_result(
    result: &ClauseResult,
    state: Option<&EffectiveState>,
    since: &BTreeMap<String, jiff::Timestamp>,
) -> NodeClause {
    let clause = state.and_then(|state| state.clauses.iter().find(|clause| clause.address == result.address));
    NodeClause {
        address: result.address.to_string(),
        severity: result.severity,
        origins: result.origins.iter().map(origin).collect(),
        satisfies: result.satisfies.iter().cloned().collect(),
        outcome: result.outcome,
        status: result.status(),
        cause: result.cause,
        reason: ExceptionSort::of(result).map(|(_, reason)| reason),
        since: since.get(result.address.as_str()).copied(),
        conceded_by: Vec::new(),
        change_windows: clause.map(window_words).unwrap_or_default(),
        wanted: clause.map(|clause| clause.properties.clone()).unwrap_or_default(),
    }
}

fn all_is_well(clause: &Clause) -> NodeClause {
    NodeClause {
        address: clause.address.to_string(),
        severity: clause.severity,
        origins: clause.origins.iter().map(origin).collect(),
        satisfies: clause.satisfies.iter().cloned().collect(),
        outcome: if clause.is_only_a_reaction() { Outcome::Idle } else { Outcome::InLine },
        status: Status::InLine,
        cause: None,
        reason: None,
        since: None,
        conceded_by: Vec::new(),
        change_windows: window_words(clause),
        wanted: clause.properties.clone(),
    }
}

fn window_words(clause: &Clause) -> Vec<String> {
    let words =
        |hours: &Vec<WeeklyHours>| hours.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
    clause.change_windows.iter().map(words).collect()
}

fn origin(origin: &Origin) -> String {
    format!("{}@{}/{}", origin.kit, origin.version, origin.baseline)
}
