//! Publishing kits.

use crate::problem::{Answer, ApiError};
use crate::store::audit;
use crate::store::release::{self, ReleaseRow};
use crate::trust::{Allowed, KitPublish, NodeRead};
use crate::work::publish::{LARGEST_FILE, check_release, is_named_right};
use constans_wire::kit::{Lacking, Release, ReleaseFiles};
use rocket::data::{Data, ToByteUnit as _};
use rocket::serde::json::Json;
use rocket::{State, get, post, put};
use serde_json::json;
use sqlx::PgPool;

/// Which contents of a kit the server lacks.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = ReleaseFiles, responses((status = 200, body = Lacking)))]
#[post("/api/releases/prepare", data = "<kit>")]
pub async fn prepare(kit: Json<ReleaseFiles>, _caller: Allowed<KitPublish>, db: &State<PgPool>) -> Answer<Lacking> {
    let names: Vec<String> = kit.files.iter().map(|(_, name)| name.clone()).collect();
    Ok(Json(Lacking { contents: release::lacking(db.inner(), &names).await? }))
}

/// Contents, by their digest.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = bool)))]
#[put("/api/contents/<name>", data = "<body>")]
pub async fn put_content(name: &str, body: Data<'_>, _caller: Allowed<KitPublish>, db: &State<PgPool>) -> Answer<bool> {
    let read =
        body.open(LARGEST_FILE.bytes()).into_bytes().await.map_err(|error| ApiError::Wrong(format!("the contents cannot be read: {error}")))?;
    if !read.is_complete() {
        return Err(ApiError::Wrong(format!("a file of a kit has at most {LARGEST_FILE} bytes")));
    }
    if !is_named_right(name, &read.value) {
        return Err(ApiError::Wrong(format!("the contents are not {name}")));
    }
    release::store_content(db.inner(), name, &read.value, false).await?;
    Ok(Json(true))
}

/// Publishes a kit; checked again, and refused whole.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = ReleaseFiles, responses((status = 200, body = Release)))]
#[post("/api/releases", data = "<kit>")]
pub async fn publish(kit: Json<ReleaseFiles>, caller: Allowed<KitPublish>, db: &State<PgPool>) -> Answer<Release> {
    let mut transaction = db.begin().await?;
    let row = check_release(&mut transaction, kit.into_inner().files, &caller.person).await?;
    if let Some(known) = release::find(&mut *transaction, &row.kit, &row.version).await? {
        if known.digest == row.digest {
            return Ok(Json(shown(known)));
        }
        return Err(ApiError::Conflict {
            message: format!("{}@{} was published already, with other contents", row.kit, row.version),
            hint: "a release never changes: raise the version in kit.toml".to_owned(),
        });
    }
    release::add(&mut *transaction, &row).await?;
    audit::add(&mut *transaction, &caller.person, "published", &format!("{}@{}", row.kit, row.version), &json!({ "digest": row.digest })).await?;
    transaction.commit().await?;
    Ok(Json(shown(row)))
}

/// The releases, the newest first.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<Release>)))]
#[get("/api/releases")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<Release>> {
    Ok(Json(release::all(db.inner()).await?.into_iter().map(shown).collect()))
}

fn shown(row: ReleaseRow) -> Release {
    Release {
        kit: row.kit,
        version: row.version,
        digest: row.digest,
        summary: row.summary,
        published_by: row.published_by,
        published_at: row.published_at.to_jiff(),
    }
}
