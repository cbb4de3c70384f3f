//! What an agent tells of a run that somebody follows.

use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::problem::Answer;
use crate::store::follow;
use crate::trust::NodeCaller;
use constans_wire::bounded_clause;
use constans_wire::follow::{FollowGoesOn, MAX_AT_ONCE, RunUnderWay, ToldClause, ToldRun};
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;

/// This many characters of what is done are stored.
const LONGEST_TEXT: usize = 300;
/// This many bytes of texts are stored of what is told at once.
const TEXTS: usize = 256 * 1024;

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
    let bounded =
        |ToldClause { place, result }| ToldClause { place, result: bounded_clause(result, &mut of_texts) };
    let clauses = clauses.into_iter().take(MAX_AT_ONCE).map(bounded).collect();
    let mut transaction = db.begin().await?;
    let is_followed = follow::tell(&mut transaction, node.id, &ToldRun { run, first, clauses }).await?;
    transaction.commit().await?;
    Ok(Json(FollowGoesOn { is_followed }))
}
