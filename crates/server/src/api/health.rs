//! Whether the server is alive and ready: for anyone who restarts it or sends callers elsewhere. It reports nothing else.

use crate::here::Here;
use rocket::http::Status;
use rocket::{State, get};
use sqlx::PgPool;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::timeout;

/// How long the database may take to answer.
const PATIENCE: Duration = Duration::from_secs(2);

/// The process answers.
#[utoipa::path(tag = "server", security(()), responses((status = 200, body = String, content_type = "text/plain")))]
#[get("/healthy")]
pub fn healthy() -> &'static str {
    "alive\n"
}

/// Ready: the database answers and has the schema of this version, and the protected folder is writable.
#[utoipa::path(tag = "server", security(()), responses((status = 200, body = String, content_type = "text/plain")))]
#[get("/ready")]
pub async fn ready(db: &State<PgPool>, here: &State<Arc<Here>>) -> (Status, &'static str) {
    let schema =
        sqlx::query_scalar::<_, bool>("select bool_and(success) from _sqlx_migrations").fetch_one(db.inner());
    let is_answering = matches!(timeout(PATIENCE, schema).await, Ok(Ok(true)));
    if is_answering && here.handed_out.is_usable() {
        (Status::Ok, "ready\n")
    } else {
        (Status::ServiceUnavailable, "not ready\n")
    }
}
