//! Stages and what they serve.

use super::assign_also::assigning_edits;
use super::change::{ask, draft_of, repeated};
use super::group::HowAsQuery;
use crate::body::JsonBody;
use crate::change::documents::read_documents;
use crate::change::publish::solvable;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::store::{release, stage};
use crate::trust::{Allowed, Asker, GroupEdit, MayAsk, NodeRead, StageEdit, StageServe};
use constans_core::change::{DocumentEdit, DocumentKey, StageEdit as StageChange, StageError, edit_stage};
use constans_core::kit::require;
use constans_wire::change::HowToChange;
use constans_wire::kit::{
    Advance, AssignAlso, Changed, GoBack, PlaceStage, RenameStage, SecondPerson, Serve, Stage, WentBack,
};
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use std::collections::{BTreeMap, BTreeSet};
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
    let of = |name: &str| {
        served
            .iter()
            .filter(|(stage, _, _)| stage == name)
            .map(|(_, kit, version)| format!("{kit}@{version}"))
            .collect()
    };
    Ok(stage::all(db)
        .await?
        .into_iter()
        .map(|stage| Stage { serves: of(&stage.name), name: stage.name, second_person: stage.second_person })
        .collect())
}

/// Makes a stage, before another one or as the last.
#[utoipa::path(tag = "kits", security(("token" = ["stage.edit"]), ("session" = ["stage.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = PlaceStage, responses((status = 200, body = Changed)))]
#[put("/api/stages/<name>", data = "<wanted>")]
pub async fn make(
    name: &str,
    wanted: JsonBody<PlaceStage>,
    caller: MayAsk<StageEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    edit(
        name,
        &StageChange::Make { before: wanted.before.clone() },
        format!("make the stage {name}"),
        &wanted.how,
        &caller.asker,
        db,
        here,
    )
    .await
}

/// Moves a stage before another one, or to the end.
#[utoipa::path(tag = "kits", security(("token" = ["stage.edit"]), ("session" = ["stage.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = PlaceStage, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/move", data = "<wanted>")]
pub async fn shift(
    name: &str,
    wanted: JsonBody<PlaceStage>,
    caller: MayAsk<StageEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    edit(
        name,
        &StageChange::Move { before: wanted.before.clone() },
        format!("move the stage {name}"),
        &wanted.how,
        &caller.asker,
        db,
        here,
    )
    .await
}

/// Renames a stage: groups that name it and the releases that it serves follow.
#[utoipa::path(tag = "kits", security(("token" = ["stage.edit"]), ("session" = ["stage.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = RenameStage, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/rename", data = "<wanted>")]
pub async fn rename(
    name: &str,
    wanted: JsonBody<RenameStage>,
    caller: MayAsk<StageEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let what = format!("rename the stage {name} to {}", wanted.to.escape_debug());
    edit(name, &StageChange::Rename { to: wanted.to.clone() }, what, &wanted.how, &caller.asker, db, here)
        .await
}

/// Lets changes of what a stage serves ask for a second person, or no longer.
#[utoipa::path(tag = "kits", security(("token" = ["stage.edit"]), ("session" = ["stage.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = SecondPerson, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/second-person", data = "<wanted>")]
pub async fn second_person(
    name: &str,
    wanted: JsonBody<SecondPerson>,
    caller: MayAsk<StageEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let required = wanted.required;
    let what = format!(
        "changes of the stage {name} {}",
        if required { "need a second person" } else { "no longer need a second person" }
    );
    edit(name, &StageChange::SecondPerson { required }, what, &wanted.how, &caller.asker, db, here).await
}

/// Removes a stage that no group names.
#[utoipa::path(tag = "kits", security(("token" = ["stage.edit"]), ("session" = ["stage.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), params(HowAsQuery), responses((status = 200, body = Changed)))]
#[delete("/api/stages/<name>?<how..>")]
pub async fn remove(
    name: &str,
    how: HowAsQuery,
    caller: MayAsk<StageEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    edit(name, &StageChange::Remove, format!("remove the stage {name}"), &how.into(), &caller.asker, db, here)
        .await
}

async fn edit(
    name: &str,
    edit: &StageChange,
    what: String,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, asker).await? {
        return Ok(Json(changed));
    }
    let documents = read_documents(&mut *db.acquire().await?).await?;
    let edits = edit_stage(&documents, name, edit).map_err(|error| match error {
        StageError::Missing(name) => ApiError::Missing { what: "stage", name },
        StageError::Name => ApiError::invalid("name", error.to_string()),
        StageError::Exists(_) => ApiError::Conflict {
            message: error.to_string(),
            hint: "constans stage list shows the stages".to_owned(),
        },
        StageError::Named { .. } => ApiError::Conflict {
            message: error.to_string(),
            hint: "let the group name another stage first: constans group set".to_owned(),
        },
    })?;
    ask(db, here, &draft_of("stage", what, edits, how, asker)).await
}

/// Serves releases in a stage, all or none, and assigns baselines to groups if it is asked to: that needs `group.edit` too.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = Serve, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/serve", data = "<wanted>")]
pub async fn serve(
    name: &str,
    wanted: JsonBody<Serve>,
    caller: MayAsk<StageServe>,
    of_groups: MayAsk<GroupEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let Serve { releases, assign, how } = &wanted.0;
    let may_assign = assign.is_empty() || of_groups.asker.may_hand_out;
    let asker = Asker { may_hand_out: caller.asker.may_hand_out && may_assign, ..caller.asker };
    serve_releases(name, releases, assign, how, &asker, db, here).await
}

async fn serve_releases(
    name: &str,
    releases: &[String],
    assign: &[AssignAlso],
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, asker).await? {
        return Ok(Json(changed));
    }
    let mut connection = db.acquire().await?;
    if !stage::names(&mut *connection).await?.iter().any(|known| known == name) {
        return Err(ApiError::Missing { what: "stage", name: name.to_owned() });
    }
    let mut served: BTreeMap<String, String> = stage::served(&mut *connection)
        .await?
        .into_iter()
        .filter(|(stage, ..)| stage == name)
        .map(|(_, kit, version)| (kit, version))
        .collect();
    let mut edits = Vec::new();
    check_releases(&mut connection, releases).await?;
    for (kit, version) in releases.iter().filter_map(|release| release.split_once('@')) {
        let before = served.insert(kit.to_owned(), version.to_owned()).map(Value::from);
        let key = DocumentKey::Served { stage: name.to_owned(), kit: kit.to_owned() };
        edits.push(DocumentEdit { key, before, after: Some(version.into()) });
    }
    check_requirements(&mut connection, name, &served, releases).await?;
    let mut what = format!("{name} serves {}", releases.join(", "));
    let assigning = assigning_edits(&mut connection, here, assign).await?;
    what.extend(assign.iter().map(|one| format!("; {} is assigned {}/{}", one.group, one.kit, one.baseline)));
    edits.extend(assigning);
    drop(connection);
    ask(db, here, &draft_of("serve", what, edits, how, asker)).await
}

/// Serves in a stage what an earlier one serves, all or none.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = Advance, responses((status = 200, body = Changed)))]
#[post("/api/stages/<name>/advance", data = "<wanted>")]
pub async fn advance(
    name: &str,
    wanted: JsonBody<Advance>,
    caller: MayAsk<StageServe>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let Advance { from, kits, how } = &wanted.0;
    if let Some(changed) = repeated(db, here, &caller.asker).await? {
        return Ok(Json(changed));
    }
    let stages = stage::names(db.inner()).await?;
    let place = |wanted: &str| {
        let missing = || ApiError::Missing { what: "stage", name: wanted.to_owned() };
        stages.iter().position(|known| known == wanted).ok_or_else(missing)
    };
    if place(from)? >= place(name)? {
        return Err(ApiError::Conflict {
            message: format!("{from} is no earlier stage than {name}: the stages are {}", stages.join(", ")),
            hint: format!("constans stage serve {name} KIT@VERSION serves any release"),
        });
    }
    let served: BTreeSet<(String, String, String)> = stage::served(db.inner()).await?.into_iter().collect();
    let of_earlier = || served.iter().filter(|(stage, ..)| stage == from);
    if let Some(missing) = kits.iter().find(|kit| !of_earlier().any(|(_, served, _)| served == *kit)) {
        return Err(ApiError::Missing { what: "kit that the stage serves", name: missing.clone() });
    }
    let releases: Vec<String> = of_earlier()
        .filter(|(_, kit, _)| kits.is_empty() || kits.contains(kit))
        .filter(|(_, kit, version)| !served.contains(&(name.to_owned(), kit.clone(), version.clone())))
        .map(|(_, kit, version)| format!("{kit}@{version}"))
        .collect();
    if releases.is_empty() {
        return Err(ApiError::Conflict {
            message: format!("{name} serves what {from} serves already"),
            hint: "constans stage list shows what each serves".to_owned(),
        });
    }
    serve_releases(name, &releases, &[], how, &caller.asker, db, here).await
}

/// Serves the previous release of a kit again.
#[utoipa::path(tag = "kits", security(("token" = ["stage.serve"]), ("session" = ["stage.serve"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = GoBack, responses((status = 200, body = WentBack)))]
#[post("/api/stages/<name>/back", data = "<wanted>")]
pub async fn back(
    name: &str,
    wanted: JsonBody<GoBack>,
    caller: MayAsk<StageServe>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<WentBack> {
    let kit = &wanted.kit;
    let served = stage::served(db.inner()).await?;
    let present =
        served.into_iter().find(|(stage, one, _)| stage == name && one == kit).map(|(_, _, version)| version);
    let present =
        present.ok_or_else(|| ApiError::Missing { what: "kit that the stage serves", name: kit.clone() })?;
    let before = stage::before(db.inner(), name, kit, &present).await?.ok_or_else(|| ApiError::Conflict {
        message: format!(
            "{name} has no earlier release of {kit} before {kit}@{present} that is not withdrawn"
        ),
        hint: format!("list the releases: constans kit log {kit}"),
    })?;
    let to = format!("{kit}@{before}");
    let changed = serve_releases(name, std::slice::from_ref(&to), &[], &wanted.how, &caller.asker, db, here)
        .await?
        .into_inner();
    Ok(Json(WentBack { from: format!("{kit}@{present}"), to, changed }))
}

/// Refuses releases that are not published, or were withdrawn.
pub(super) async fn check_releases(db: &mut PgConnection, releases: &[String]) -> Result<(), ApiError> {
    for wanted in releases {
        let missing = || ApiError::Missing { what: "release", name: wanted.clone() };
        let (kit, version) = wanted
            .split_once('@')
            .ok_or_else(|| ApiError::invalid("release", format!("`{wanted}` is not KIT@VERSION")))?;
        let found = release::find(&mut *db, kit, version).await?.ok_or_else(missing)?;
        if let (Some(by), Some(because)) = (found.withdrawn_by, found.withdrawn_because) {
            return Err(ApiError::Conflict {
                message: format!("{kit}@{version} was withdrawn by {by}: {because}"),
                hint: format!("list the releases: constans kit log {kit}"),
            });
        }
    }
    Ok(())
}

/// Refuses a set of releases in which something is required that is missing: names all of it, and what would satisfy it.
pub(super) async fn check_requirements(
    db: &mut PgConnection,
    name: &str,
    served: &BTreeMap<String, String>,
    named: &[String],
) -> Result<(), ApiError> {
    let all = solvable(&mut *db).await?;
    let find = |kit: &str, version: &str| {
        all.iter().find(|release| release.kit == kit && release.version.to_string() == version).cloned()
    };
    let served: Vec<require::Release> =
        served.iter().filter_map(|(kit, version)| find(kit, version)).collect();
    // What the stage serves must go together as it is: nothing is chosen for it.
    let Err(unmet) = require::solve(&served, &served) else { return Ok(()) };
    let message: Vec<String> = unmet
        .iter()
        .map(|unmet| match &unmet.needed_elsewhere {
            Some((version, _)) => format!(
                "{} requires {} {}, and the stage serves {version}",
                unmet.by,
                unmet.kit(),
                unmet.wanted
            ),
            None => {
                format!("{} requires {} {}, and the stage serves none", unmet.by, unmet.kit(), unmet.wanted)
            }
        })
        .collect();
    let given: Vec<require::Release> = named
        .iter()
        .filter_map(|name| name.split_once('@').and_then(|(kit, version)| find(kit, version)))
        .collect();
    let hint = match require::solve(&given, &all) {
        Ok(chosen) => {
            let together: Vec<String> =
                chosen.iter().map(|(kit, version)| format!("{kit}@{version}")).collect();
            format!("serve them together: constans stage serve {name} {}", together.join(" "))
        }
        Err(unmet) => unmet.iter().map(require::Unmet::hint).collect::<Vec<_>>().join("; "),
    };
    Err(ApiError::Conflict { message: message.join("; "), hint })
}
