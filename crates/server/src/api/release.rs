//! Publishing kits, reading and comparing releases, withdrawing them.

use crate::body::JsonBody;
use crate::body::MAX_FILE;
use crate::change::publish::{check_releases, find_releases, is_named_right, read_release};
use crate::here::Here;
use crate::list::{ListQuery, placed};
use crate::page::{Page, PageAnswer, PageQuery};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::release::{self, ReleaseRow};
use crate::store::{audit, stage, wanted};
use crate::thread::on_thread;
use crate::trust::{Allowed, KitPublish, NodeRead};
use constans_core::compare::{KitDifference, kit_difference};
use constans_core::document::Finding;
use constans_core::filter::RELEASES;
use constans_core::kind::{KINDS, KindPage, kind_page};
use constans_core::kit::{page, shown_text};
use constans_wire::kit::{
    Lacking, Logged, Publish, Published, Release, ReleaseFile, ReleaseFiles, ReleaseShown, ReleaseText,
    ServedFor, Withdraw, Withdrawn,
};
use rocket::data::{Data, ToByteUnit as _};
use rocket::http::ContentType;
use rocket::serde::json::Json;
use rocket::{State, get, post, put};
use serde_json::json;
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The largest file that is shown as text, in bytes.
const MAX_TEXT: usize = 256 * 1024;

/// Asks which contents of a kit the server lacks.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = ReleaseFiles, responses((status = 200, body = Lacking)))]
#[post("/api/releases/prepare", data = "<kit>")]
pub async fn prepare(
    kit: JsonBody<ReleaseFiles>,
    _caller: Allowed<KitPublish>,
    db: &State<PgPool>,
) -> Answer<Lacking> {
    let names: Vec<String> = kit.files.iter().map(|(_, name)| name.clone()).collect();
    Ok(Json(Lacking { contents: release::lacking(db.inner(), &names).await? }))
}

/// Contents, by their digest.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = bool)))]
#[put("/api/contents/<name>", data = "<body>")]
pub async fn put_content(
    name: &str,
    body: Data<'_>,
    _caller: Allowed<KitPublish>,
    db: &State<PgPool>,
) -> Answer<bool> {
    let read = body.open(MAX_FILE.bytes()).into_bytes().await.map_err(ApiError::CutOff)?;
    if !read.is_complete() {
        return Err(ApiError::TooLarge { what: "a file of a kit", most_bytes: MAX_FILE });
    }
    if !is_named_right(name, &read.value) {
        return Err(ApiError::invalid("name", format!("the contents are not {name}")));
    }
    release::store_content(db.inner(), name, &read.value, false).await?;
    Ok(Json(true))
}

/// Publishes kits together. The server checks them again, and publishes all or none.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = Publish, responses((status = 200, body = Published)))]
#[post("/api/releases", data = "<kits>")]
pub async fn publish(
    kits: JsonBody<Publish>,
    caller: Allowed<KitPublish>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Published> {
    let mut transaction = db.begin().await?;
    let (rows, warnings) = check_releases(&mut transaction, kits.0.kits, &caller.person).await?;
    let mut releases = Vec::new();
    for row in rows {
        if let Some(known) = release::find(&mut *transaction, &row.kit, &row.version).await? {
            if known.digest != row.digest {
                return Err(ApiError::Conflict {
                    message: format!("{}@{} is already published with other contents", row.kit, row.version),
                    hint: "a release never changes: increase the version in kit.toml".to_owned(),
                });
            }
            releases.push(known);
            continue;
        }
        release::add(&mut *transaction, &row).await?;
        let name = format!("{}@{}", row.kit, row.version);
        audit::add(&mut *transaction, &caller.person, "published", &name, &json!({ "digest": row.digest }))
            .await?;
        releases.push(row);
    }
    let served = stage::served(&mut *transaction).await?;
    transaction.commit().await?;
    here.waker.wake("kits");
    let releases = releases.into_iter().map(|row| shown(row, &served)).collect::<Result<_, _>>()?;
    Ok(Json(Published { releases, warnings }))
}

/// What publishing these kits together would find, kit by kit in the order in which they are sent. Nothing is published.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = Publish, responses((status = 200, body = Vec<Vec<Finding>>)))]
#[post("/api/check/releases", data = "<kits>")]
pub async fn check(
    kits: JsonBody<Publish>,
    _caller: Allowed<KitPublish>,
    db: &State<PgPool>,
) -> Answer<Vec<Vec<Finding>>> {
    Ok(Json(find_releases(&mut *db.acquire().await?, kits.0.kits).await?))
}

/// The releases, the newest first.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<Release>)))]
#[get("/api/releases?<list..>")]
pub async fn list(list: ListQuery, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> PageAnswer<Release> {
    let served = &stage::served(db.inner()).await?;
    let read = |range| async move {
        placed(release::all(db.inner(), &range).await?, ReleaseRow::cursor, |row| shown(row, served))
    };
    list.page(&RELEASES, read).await
}

/// One release: its data, its files, and its desired state in words.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = ReleaseShown)))]
#[get("/api/releases/<kit>/<version>")]
pub async fn show(
    kit: &str,
    version: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<ReleaseShown> {
    let mut connection = db.acquire().await?;
    let (row, read) = read_release(&mut connection, here, &format!("{kit}@{version}")).await?;
    let listed: Vec<(String, String)> =
        read_stored(|| format!("list of files of {kit}@{version}"), row.files.clone())?;
    let names: Vec<String> = listed.iter().map(|(_, name)| name.clone()).collect();
    let sizes: BTreeMap<String, i64> = release::sizes(&mut *connection, &names).await?.into_iter().collect();
    let bytes = |name: &str| sizes.get(name).and_then(|bytes| u64::try_from(*bytes).ok()).unwrap_or(0);
    let files = listed
        .into_iter()
        .map(|(path, content)| ReleaseFile { bytes: bytes(&content), path, content })
        .collect();
    let served = stage::served(&mut *connection).await?;
    Ok(Json(ReleaseShown { release: shown(row, &served)?, files, page: page(&read) }))
}

/// The text of a file of a release, with concealed values replaced.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("path" = String, Query)), responses((status = 200, body = ReleaseText)))]
#[get("/api/releases/<kit>/<version>/text?<path>")]
pub async fn text(
    kit: &str,
    version: &str,
    path: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<ReleaseText> {
    let mut connection = db.acquire().await?;
    let (_, read) = read_release(&mut connection, here, &format!("{kit}@{version}")).await?;
    let bytes = read
        .files
        .get(path)
        .ok_or_else(|| ApiError::Missing { what: "file of the release", name: path.to_owned() })?;
    let shown = if bytes.len() > MAX_TEXT { None } else { shown_text(&read, path) };
    let concealed = shown.as_ref().is_some_and(|(_, concealed)| *concealed);
    Ok(Json(ReleaseText { text: shown.map(|(text, _)| text), concealed }))
}

/// Two releases side by side: clause by clause, property by property.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("from" = String, Query), ("to" = String, Query)), responses((status = 200, body = KitDifference)))]
#[get("/api/compare/releases?<from>&<to>")]
pub async fn compare(
    from: &str,
    to: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<KitDifference> {
    let mut connection = db.acquire().await?;
    let (_, from) = read_release(&mut connection, here, from).await?;
    let (_, to) = read_release(&mut connection, here, to).await?;
    Ok(Json(on_thread(move || kit_difference(&from, &to)).await?))
}

/// The releases of a kit, the newest first, with where and when each was served.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(PageQuery), responses((status = 200, body = Vec<Logged>)))]
#[get("/api/kits/<kit>/log?<page..>")]
pub async fn log(
    kit: &str,
    page: PageQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<Logged> {
    let range = page.range()?;
    let rows = release::of_kit(db.inner(), &range, kit).await?;
    if rows.is_empty() && range.after.is_none() {
        return Err(ApiError::Missing { what: "kit", name: kit.to_owned() });
    }
    let releases = Page::of_rows(rows, &range, ReleaseRow::cursor_of_kit);
    let versions: Vec<String> = releases.rows().iter().map(|row| row.version.clone()).collect();
    let history = stage::history(db.inner(), kit, &versions).await?;
    let served = stage::served(db.inner()).await?;
    let served_for = |version: &str| {
        let of_it = history.iter().filter(|row| row.version == version);
        of_it
            .map(|row| ServedFor {
                stage: row.stage.clone(),
                from: row.from_at.to_jiff(),
                until: row.until_at.map(|at| at.to_jiff()),
                by: row.served_by.clone(),
            })
            .collect()
    };
    releases.shown(|row| Ok(Logged { served: served_for(&row.version), release: shown(row, &served)? }))
}

/// Withdraws a release: no stage can serve it again.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), request_body = Withdraw, responses((status = 200, body = Release)))]
#[post("/api/releases/<kit>/<version>/withdraw", data = "<why>")]
pub async fn withdraw(
    kit: &str,
    version: &str,
    why: JsonBody<Withdraw>,
    caller: Allowed<KitPublish>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Release> {
    let name = format!("{kit}@{version}");
    if why.because.trim().is_empty() {
        return Err(ApiError::invalid("because", "give the reason in `because`"));
    }
    let mut transaction = db.begin().await?;
    let missing = || ApiError::Missing { what: "release", name: name.clone() };
    release::find(&mut *transaction, kit, version).await?.ok_or_else(missing)?;
    let served = stage::served(&mut *transaction).await?;
    let by: Vec<&str> = served
        .iter()
        .filter(|(_, one, release)| one == kit && release == version)
        .map(|(stage, _, _)| stage.as_str())
        .collect();
    if let Some(first) = by.first() {
        return Err(ApiError::Conflict {
            message: format!("{name} is served in {}", by.join(", ")),
            hint: format!("serve another release first, or go back: constans stage back {first} {kit}"),
        });
    }
    release::withdraw(&mut *transaction, kit, version, &caller.person, why.because.trim()).await?;
    audit::add(
        &mut *transaction,
        &caller.person,
        "withdrew",
        &name,
        &json!({ "because": why.because.trim() }),
    )
    .await?;
    let row = release::find(&mut *transaction, kit, version).await?.ok_or_else(missing)?;
    transaction.commit().await?;
    here.waker.wake("kits");
    Ok(Json(shown(row, &served)?))
}

/// The labels that nodes have, each with its values.
#[utoipa::path(tag = "nodes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = BTreeMap<String, Vec<String>>)))]
#[get("/api/labels")]
pub async fn labels(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<BTreeMap<String, Vec<String>>> {
    Ok(Json(wanted::labels(db.inner()).await?.into_iter().collect()))
}

/// The kinds of clauses.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<KindPage>)))]
#[get("/api/kinds")]
pub async fn kinds(_caller: Allowed<NodeRead>) -> Answer<Vec<KindPage>> {
    Ok(Json(KINDS.iter().map(kind_page).collect()))
}

/// Contents of a published kit, unchanged: only for those who may publish it.
#[utoipa::path(tag = "kits", security(("token" = ["kit.publish"]), ("session" = ["kit.publish"])), responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream")))]
#[get("/api/releases/<kit>/<version>/file?<path>")]
pub async fn file(
    kit: &str,
    version: &str,
    path: &str,
    _caller: Allowed<KitPublish>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Result<(ContentType, Vec<u8>), ApiError> {
    let mut connection = db.acquire().await?;
    let (_, read) = read_release(&mut connection, here, &format!("{kit}@{version}")).await?;
    let bytes = read
        .files
        .get(path)
        .ok_or_else(|| ApiError::Missing { what: "file of the release", name: path.to_owned() })?;
    Ok((ContentType::Binary, bytes.to_vec()))
}

fn shown(row: ReleaseRow, served: &[(String, String, String)]) -> Result<Release, ApiError> {
    let withdrawn = match (row.withdrawn_at, row.withdrawn_by, row.withdrawn_because) {
        (Some(at), Some(by), Some(because)) => Some(Withdrawn { at: at.to_jiff(), by, because }),
        _ => None,
    };
    Ok(Release {
        requires: read_stored(|| format!("requirements of {}@{}", row.kit, row.version), row.requires)?,
        served_in: served
            .iter()
            .filter(|(_, kit, version)| *kit == row.kit && *version == row.version)
            .map(|(stage, _, _)| stage.clone())
            .collect(),
        kit: row.kit,
        version: row.version,
        digest: row.digest,
        summary: row.summary,
        published_by: row.published_by,
        published_at: row.published_at.to_jiff(),
        withdrawn,
    })
}
