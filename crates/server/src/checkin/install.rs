//! What a machine fetches that is no node yet: the file that installs the agent, and its package. Both are named by their SHA-256, which
//! the line that a person pasted leads to; neither is a secret.

use crate::packages::shown;
use crate::problem::{Answer, ApiError};
use crate::store::agent_package;
use crate::trust::NodeCaller;
use bytes::Bytes;
use constans_wire::agent_package::AgentPackage;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use rocket::http::ContentType;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;
use std::io::Cursor;

/// The most memory that packages take which were fetched recently.
const MAX_MEMORY: u64 = 256 * 1024 * 1024;

/// The packages that were fetched recently, by their SHA-256: many machines fetch the same at once.
pub type FetchedPackages = Cache<String, Bytes, BySize>;

/// Weighs packages by their size.
#[derive(Clone)]
pub struct BySize;

impl Weighter<String, Bytes> for BySize {
    fn weight(&self, _: &String, contents: &Bytes) -> u64 {
        contents.len() as u64 + 1
    }
}

/// Begins to keep packages.
pub fn fetched_packages() -> FetchedPackages {
    Cache::with_weighter(16, MAX_MEMORY, BySize)
}

/// The file that a line to paste fetches: a shell's, by its SHA-256.
#[utoipa::path(tag = "agents", security(()), responses((status = 200, body = String, content_type = "text/x-shellscript")))]
#[get("/installers/<sha256>")]
pub async fn installer(sha256: &str, db: &State<PgPool>) -> Result<(ContentType, String), ApiError> {
    let contents = agent_package::installer(db.inner(), sha256).await?;
    let contents = contents.ok_or_else(|| ApiError::Missing {
        what: "installer of packages that are served",
        name: sha256.to_owned(),
    })?;
    Ok((ContentType::new("text", "x-shellscript"), contents))
}

/// The packages of the agent that are served, for an agent that is to be upgraded.
#[utoipa::path(tag = "agents", security(("node" = [])), responses((status = 200, body = Vec<AgentPackage>)))]
#[get("/packages")]
pub async fn packages(_node: NodeCaller, db: &State<PgPool>) -> Answer<Vec<AgentPackage>> {
    let rows = agent_package::list(db.inner()).await?;
    rows.into_iter().map(shown).collect::<Result<_, _>>().map(Json)
}

/// A package of the agent, by its SHA-256.
#[utoipa::path(tag = "agents", security(()), responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")))]
#[get("/packages/<sha256>")]
pub async fn package(
    sha256: &str,
    db: &State<PgPool>,
    fetched: &State<FetchedPackages>,
) -> Result<(ContentType, rocket::response::stream::ReaderStream![Cursor<Bytes>]), ApiError> {
    let missing = || ApiError::Missing { what: "package", name: sha256.to_owned() };
    let contents = fetched
        .get_or_insert_async(sha256, async {
            let contents = agent_package::contents(db.inner(), sha256).await?;
            contents.map(Bytes::from).ok_or_else(missing)
        })
        .await?;
    Ok((ContentType::Binary, rocket::response::stream::ReaderStream::one(Cursor::new(contents))))
}
