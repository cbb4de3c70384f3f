//! Activities: long work in progress.

use crate::problem::Answer;
use crate::store::job;
use crate::trust::{Allowed, NodeRead};
use constans_wire::activity::Activity;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;

/// The activities in progress, the oldest first: description, who started it, nodes done and in all. Work of less than a second
/// is not listed.
#[utoipa::path(tag = "server", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<Activity>)))]
#[get("/api/activities")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<Activity>> {
    Ok(Json(job::open(db.inner()).await?))
}
