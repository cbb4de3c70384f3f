//! Stages and what they serve.

use crate::body::JsonBody;
use crate::change::publish::solvable;
use crate::change::resolve::resolve_all;
use crate::jobs::progress::Progress;
use crate::launch::Here;
use crate::problem::{Answer, ApiError};
use crate::store::{audit, notice, release, stage};
use crate::trust::{Allowed, NodeRead, StageServe};
use constans_core::kit::require;
use constans_wire::kit::{Changed, GoBack, Serve, Stage, WentBack};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;

/// The stages in order, with their releases.
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

/// Serves releases in a stage, all or none.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"])), request_body = Serve, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/serve", data = "<wanted>")]
pub async fn serve(name: &str, wanted: JsonBody<Serve>, caller: Allowed<StageServe>, db: &State<PgPool>, here: &State<Arc<Here>>) -> Answer<Changed> {
    let mut transaction = db.begin().await?;
    if !stage::names(&mut *transaction).await?.iter().any(|known| known == name) {
        return Err(ApiError::Missing { what: "stage", name: name.to_owned() });
    }
    for wanted in &wanted.releases {
        let missing = || ApiError::Missing { what: "release", name: wanted.clone() };
        let (kit, version) = wanted.split_once('@').ok_or_else(|| ApiError::invalid("release", format!("`{wanted}` is not KIT@VERSION")))?;
        let found = release::find(&mut *transaction, kit, version).await?.ok_or_else(missing)?;
        if let (Some(by), Some(because)) = (found.withdrawn_by, found.withdrawn_because) {
            return Err(ApiError::Conflict {
                message: format!("{kit}@{version} was withdrawn by {by}: {because}"),
                hint: format!("list the releases: constans kit log {kit}"),
            });
        }
        stage::serve(&mut transaction, name, kit, version, &caller.person).await?;
    }
    check_requirements(&mut transaction, name, &wanted.releases).await?;
    audit::add(&mut *transaction, &caller.person, "served", name, &json!({ "releases": wanted.releases })).await?;
    let progress = Progress::begin(db, &caller.person, format!("resolving states after {name} serves {}", wanted.releases.join(", ")));
    let changed = resolve_all(&mut transaction, here, progress).await?;
    if !changed.unusable.is_empty() && !wanted.although_unusable {
        return Err(ApiError::unusable(&changed));
    }
    notice::tell(&mut *transaction, "kits").await?;
    transaction.commit().await?;
    Ok(Json(changed))
}

/// Serves the previous release of a kit again.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"])), request_body = GoBack, responses((status = 200, body = WentBack)))]
#[post("/api/stages/<name>/back", data = "<wanted>")]
pub async fn back(
    name: &str,
    wanted: JsonBody<GoBack>,
    caller: Allowed<StageServe>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<WentBack> {
    let kit = &wanted.kit;
    let served = stage::served(db.inner()).await?;
    let present = served.into_iter().find(|(stage, one, _)| stage == name && one == kit).map(|(_, _, version)| version);
    let present = present.ok_or_else(|| ApiError::Missing { what: "kit that the stage serves", name: kit.clone() })?;
    let before = stage::before(db.inner(), name, kit, &present).await?.ok_or_else(|| ApiError::Conflict {
        message: format!("{name} has no earlier release of {kit} before {kit}@{present} that is not withdrawn"),
        hint: format!("list the releases: constans kit log {kit}"),
    })?;
    let to = format!("{kit}@{before}");
    let wanted = Serve { releases: vec![to.clone()], although_unusable: wanted.although_unusable };
    let changed = serve(name, JsonBody(wanted), caller, db, here).await?.into_inner();
    Ok(Json(WentBack { from: format!("{kit}@{present}"), to, changed }))
}

/// Refuses a set of releases in which something is required that is not there: says all of it, and what would do.
async fn check_requirements(db: &mut PgConnection, name: &str, named: &[String]) -> Result<(), ApiError> {
    let all = solvable(&mut *db).await?;
    let find = |kit: &str, version: &str| all.iter().find(|release| release.kit == kit && release.version.to_string() == version).cloned();
    let served: Vec<require::Release> = stage::served(&mut *db)
        .await?
        .into_iter()
        .filter(|(stage, _, _)| stage == name)
        .filter_map(|(_, kit, version)| find(&kit, &version))
        .collect();
    // What the stage serves must go together as it is: nothing is chosen for it.
    let Err(unmet) = require::solve(&served, &served) else { return Ok(()) };
    let message: Vec<String> = unmet
        .iter()
        .map(|unmet| match &unmet.taken {
            Some((version, _)) => format!("{} requires {} {}, and the stage serves {version}", unmet.by, unmet.kit(), unmet.wanted),
            None => format!("{} requires {} {}, and the stage serves none", unmet.by, unmet.kit(), unmet.wanted),
        })
        .collect();
    let given: Vec<require::Release> = named.iter().filter_map(|name| name.split_once('@').and_then(|(kit, version)| find(kit, version))).collect();
    let hint = match require::solve(&given, &all) {
        Ok(chosen) => {
            let together: Vec<String> = chosen.iter().map(|(kit, version)| format!("{kit}@{version}")).collect();
            format!("serve them together: constans stage serve {name} {}", together.join(" "))
        }
        Err(unmet) => unmet.iter().map(require::Unmet::hint).collect::<Vec<_>>().join("; "),
    };
    Err(ApiError::Conflict { message: message.join("; "), hint })
}
