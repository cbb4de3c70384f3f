//! Long work that is under way.

use crate::problem::Answer;
use crate::store::work;
use crate::trust::{Allowed, NodeRead};
use constans_wire::work::Work;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;

/// The long work that is under way, the oldest first: what, whose, and how far. Work that takes less than a second is not told of.
#[utoipa::path(tag = "server", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<Work>)))]
#[get("/api/work")]
pub async fn under_way(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<Work>> {
    Ok(Json(work::under_way(db.inner()).await?))
}
