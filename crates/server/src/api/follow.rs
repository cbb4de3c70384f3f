//! Following the runs of a node.

use crate::problem::{Answer, ApiError, read_stored};
use crate::store::{follow, node, wake};
use crate::trust::{AllowedWithin, NodeWake};
use constans_core::sentence::Sentence;
use constans_wire::follow::{Follow, FollowedClause, RunUnderWay, ToldClause};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, post};
use sqlx::PgPool;
use std::slice;
use uuid::Uuid;

/// An agent goes on telling for so long after this was asked the last time.
const FOLLOWED_FOR: SignedDuration = SignedDuration::from_secs(30);
/// So many nodes are followed at once.
const MAX_FOLLOWED: i64 = 200;

/// The run of a node that is under way, and what came out of its clauses after number `after` of run `run`; from the first on, if another
/// run is under way.
///
/// Whoever asks follows the node for 30 s: its agent is woken, and tells what comes out of its runs while they go on. What was told is
/// kept for an hour; what a run came to is in its report.
#[utoipa::path(tag = "nodes", security(("token" = ["node.wake"]), ("session" = ["node.wake"])), responses((status = 200, body = Follow)))]
#[post("/api/nodes/<name>/follow?<run>&<after>")]
pub async fn go_on(
    name: &str,
    run: Option<&str>,
    after: Option<u32>,
    caller: AllowedWithin<NodeWake>,
    db: &State<PgPool>,
) -> Answer<Follow> {
    let known = match run.map(Uuid::parse_str) {
        None => None,
        Some(Ok(run)) => Some(run),
        Some(Err(_)) => return Err(ApiError::invalid("run", "it is not the id of a run")),
    };
    let ids = node::ids(db.inner(), slice::from_ref(&name.to_owned())).await?;
    let missing = || ApiError::Missing { what: "node", name: name.to_owned() };
    let id = ids.into_values().next().ok_or_else(missing)?;
    let mut transaction = db.begin().await?;
    caller.check_nodes(&mut transaction, &[id]).await?;
    let until = crate::clock::now() + FOLLOWED_FOR;
    if !follow::go_on(&mut *transaction, id, until).await? {
        if follow::count(&mut *transaction).await? >= MAX_FOLLOWED {
            return Err(ApiError::Conflict {
                message: format!("{MAX_FOLLOWED} nodes are followed already"),
                hint: "wait until somebody leaves one".to_owned(),
            });
        }
        super::wake::refuse_now(&mut transaction, 1).await?;
        follow::begin(&mut transaction, id, until).await?;
        wake::add(&mut transaction, &caller.person, Some("following its runs"), &[id]).await?;
    }
    transaction.commit().await?;
    let row = follow::of(db.inner(), id).await?;
    let run: Option<RunUnderWay> =
        row.run.map(|told| read_stored(|| format!("run of {name}"), told)).transpose()?;
    let mut clauses = Vec::new();
    if let Some(run) = &run {
        let after = if known == Some(run.id) { after.unwrap_or(0) } else { 0 };
        for (no, told) in follow::clauses(db.inner(), id, run.id, i64::from(after)).await? {
            let told: ToldClause = read_stored(|| format!("clause of a run of {name}"), told)?;
            let words = told.result.words();
            clauses.push(FollowedClause { no: u64::try_from(no).unwrap_or(0), told, words });
        }
    }
    let mut follow = Follow {
        node: name.to_owned(),
        now: crate::clock::now(),
        since: row.began_at.to_jiff(),
        until: row.until_at.to_jiff(),
        was_waiting: row.was_waiting,
        heard: row.heard_at.map(|at| at.to_jiff()),
        next_check_in: row.promised_at.map(|at| at.to_jiff()),
        run,
        waits: Sentence::default(),
        clauses,
    };
    follow.waits = follow.waits_for();
    Ok(Json(follow))
}
