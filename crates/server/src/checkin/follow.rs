//! What an agent tells of a run that somebody follows.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::problem::Answer;
use crate::store::follow;
use crate::trust::NodeCaller;
use constans_core::run::{ClauseResult, Decision};
use constans_wire::bounded_clause;
use constans_wire::follow::{FollowGoesOn, MAX_AT_ONCE, RunUnderWay, ToldClause, ToldRun};
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;
use std::collections::BTreeSet;

/// This many characters of what is done are stored.
const LONGEST_TEXT: usize = 300;
/// A clause that is longer, in bytes of JSON, is stored without its details; the report of the run has them.
const LONGEST_CLAUSE: usize = 64 * 1024;
/// This many bytes of texts are stored of what is told at once.
const TEXTS: usize = 256 * 1024;

/// Returns a result with its details if they are not too long.
fn within_bounds(result: ClauseResult) -> ClauseResult {
    let is_too_long = serde_json::to_vec(&result).is_ok_and(|json| json.len() > LONGEST_CLAUSE);
    if !is_too_long {
        return result;
    }
    ClauseResult {
        origins: Vec::new(),
        satisfies: BTreeSet::new(),
        topics: BTreeSet::new(),
        related: None,
        differences: Vec::new(),
        still_different: Vec::new(),
        text_diff: None,
        not_examined: Vec::new(),
        packages: Vec::new(),
        kept: Vec::new(),
        native: Vec::new(),
        reaction: None,
        missed: Vec::new(),
        dropped_needs: Vec::new(),
        decision: Decision::Nothing,
        would: None,
        ..result
    }
}

/// How a run goes on, for those who follow it. Nothing is stored while nobody does.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = ToldRun, responses((status = 200, body = FollowGoesOn)))]
#[post("/followed-run", data = "<told>")]
pub async fn told(
    told: NodeBody<ToldRun>,
    node: NodeCaller,
    shown: ShownCertificate,
    db: &State<PgPool>,
) -> Answer<FollowGoesOn> {
    let ToldRun { run, first, clauses } = told.sent_by(&shown, db).await?;
    let run = RunUnderWay { doing: run.doing.chars().take(LONGEST_TEXT).collect(), ..run };
    let mut of_texts = TEXTS;
    let bounded = |ToldClause { place, result }| ToldClause {
        place,
        result: within_bounds(bounded_clause(result, &mut of_texts)),
    };
    let clauses = clauses.into_iter().take(MAX_AT_ONCE).map(bounded).collect();
    let mut transaction = db.begin().await?;
    let is_followed = follow::tell(&mut transaction, node.id, &ToldRun { run, first, clauses }).await?;
    transaction.commit().await?;
    Ok(Json(FollowGoesOn { is_followed }))
}
