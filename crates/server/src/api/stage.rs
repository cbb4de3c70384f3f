//! Stages and what they serve.

use crate::launch::Here;
use crate::problem::{Answer, ApiError};
use crate::store::{audit, notice, release, stage};
use crate::trust::{Allowed, NodeRead, StageServe};
use crate::work::resolve::resolve_nodes;
use constans_wire::kit::{Changed, Serve, Stage};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use semver::{Version, VersionReq};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The stages in order, with what each serves.
#[utoipa::path(tag = "kits", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<Stage>)))]
#[get("/api/stages")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<Stage>> {
    Ok(Json(stages(db.inner()).await?))
}

/// Returns the stages in order, with what each serves.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn stages(db: &PgPool) -> Result<Vec<Stage>, ApiError> {
    let served = stage::served(db).await?;
    let of = |name: &str| served.iter().filter(|(stage, _, _)| stage == name).map(|(_, kit, version)| format!("{kit}@{version}")).collect();
    Ok(stage::names(db).await?.into_iter().map(|name| Stage { serves: of(&name), name }).collect())
}

/// Serves releases in a stage; all of them or none.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"])), request_body = Serve, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/serve", data = "<wanted>")]
pub async fn serve(name: &str, wanted: Json<Serve>, caller: Allowed<StageServe>, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<Changed> {
    let mut transaction = db.begin().await?;
    if !stage::names(&mut *transaction).await?.iter().any(|known| known == name) {
        return Err(ApiError::Missing { what: "stage", name: name.to_owned() });
    }
    for wanted in &wanted.releases {
        let missing = || ApiError::Missing { what: "release", name: wanted.clone() };
        let (kit, version) = wanted.split_once('@').ok_or_else(|| ApiError::Wrong(format!("`{wanted}` is not KIT@VERSION")))?;
        release::find(&mut *transaction, kit, version).await?.ok_or_else(missing)?;
        stage::serve(&mut transaction, name, kit, version, &caller.person).await?;
    }
    check_requirements(&mut transaction, name).await?;
    audit::add(&mut *transaction, &caller.person, "served", name, &json!({ "releases": wanted.releases })).await?;
    let changed = resolve_nodes(&mut transaction, here, None).await?;
    if !changed.unusable.is_empty() && !wanted.although_unusable {
        return Err(ApiError::unusable(&changed));
    }
    notice::tell(&mut *transaction, "kits").await?;
    transaction.commit().await?;
    Ok(Json(changed))
}

/// Refuses a set of releases in which something is required that is not there: says all of it.
async fn check_requirements(db: &mut PgConnection, name: &str) -> Result<(), ApiError> {
    let served: BTreeMap<String, String> =
        stage::served(&mut *db).await?.into_iter().filter(|(stage, _, _)| stage == name).map(|(_, kit, version)| (kit, version)).collect();
    let mut unmet = Vec::new();
    for (kit, version) in &served {
        let Some(row) = release::find(&mut *db, kit, version).await? else { continue };
        let requires: BTreeMap<String, String> = serde_json::from_value(row.requires).unwrap_or_default();
        for (required, wanted) in requires {
            let has = served.get(&required);
            let fits = has.and_then(|has| Some(VersionReq::parse(&wanted).ok()?.matches(&Version::parse(has).ok()?))).unwrap_or(false);
            if !fits {
                unmet.push(format!(
                    "{kit}@{version} requires {required} {wanted}, and the stage serves {}",
                    has.map_or_else(|| "none".to_owned(), |has| format!("{required}@{has}"))
                ));
            }
        }
    }
    if unmet.is_empty() {
        return Ok(());
    }
    Err(ApiError::Conflict {
        message: unmet.join("; "),
        hint: "name what is required in the same command: constans stage serve STAGE KIT@VERSION KIT@VERSION".to_owned(),
    })
}
