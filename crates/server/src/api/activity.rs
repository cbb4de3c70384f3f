//! Activities: long work in progress.

use crate::problem::Answer;
use crate::store::{job, rollout, sweep};
use crate::sweep::shown_sweep;
use crate::trust::{Allowed, NodeRead};
use constans_wire::activity::Activity;
use constans_wire::sweep::SweepCounts;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;

/// The activities in progress, the oldest first: description, who started it, nodes done and in all. Work of less than a second
/// is not listed, nor a sweep of which only silent nodes are waited for. Of a rollout it is told how many nodes its waves have reached.
#[utoipa::path(tag = "server", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<Activity>)))]
#[get("/api/activities")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<Activity>> {
    let mut activities = job::open(db.inner()).await?;
    for row in sweep::open(db.inner()).await? {
        let sweep = shown_sweep(row)?;
        let SweepCounts { nodes, pending, silent, offered, begun, .. } = sweep.counts;
        let waited_for = (pending - silent.min(pending)) + offered + begun;
        if waited_for > 0 {
            let number = |nodes: u64| usize::try_from(nodes).unwrap_or(usize::MAX);
            activities.push(Activity {
                what: format!("S{}: {}", sweep.no, sweep.what),
                who: sweep.who,
                done: number(nodes - waited_for),
                total: number(nodes),
                began: sweep.asked_at,
                sweep: Some(sweep.no),
                rollout: None,
            });
        }
    }
    activities.extend(rollout::progress(db.inner()).await?.into_iter().map(|row| Activity {
        what: format!("C{}, wave {} of {}: {}", row.no, row.reached, row.waves, row.what),
        who: row.who,
        done: usize::try_from(row.nodes_reached).unwrap_or(0),
        total: usize::try_from(row.nodes).unwrap_or(0),
        began: row.began_at.to_jiff(),
        sweep: None,
        rollout: Some(row.no),
    }));
    activities.sort_by_key(|activity| activity.began);
    Ok(Json(activities))
}
