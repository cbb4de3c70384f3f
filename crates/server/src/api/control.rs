//! Controls: the catalogue, how far the fleet meets it, and its gaps.

use super::compliance::{read_moments, refuse_deleted};
use super::overview::{Narrowed, narrowed};
use crate::body::JsonBody;
use crate::followed::put_in_scopes;
use crate::here::Here;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::audit;
use crate::store::compliance::{self, Counted, CountedRow, Dimension, Moment};
use crate::store::control::{self, AssetListRow, CatalogueRow, ScopeRow};
use crate::thread::on_thread;
use crate::trust::{Allowed, ControlEdit, NodeRead};
use constans_core::compliance::Rate;
use constans_core::control::{Catalogue, Control, difference};
use constans_core::words::check_reason;
use constans_wire::control::{
    AssetSummary, CatalogueSet, CatalogueVersion, ControlFigures, ControlGaps, Controls, SetCatalogue,
    ValidCatalogue,
};
use rocket::serde::json::Json;
use rocket::{State, get, put};
use serde_json::json;
use sqlx::PgPool;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// This many nodes of a gap are named at once.
const MAX_NAMED: usize = 1_000;
/// This many problems of a catalogue are said at once.
const MAX_PROBLEMS: usize = 50;

/// The catalogue as it was valid at a moment, and how far the nodes met it: which satisfy each control, which do not, and which have
/// no clause for it.
#[utoipa::path(tag = "controls", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("as_of" = Option<String>, Query, description = "The moment, as 2026-11-21T23:00:00Z; now if left out"),
    ("as_known_at" = Option<String>, Query, description = "Only what the server had learned by this moment counts, not before `as_of`; now if left out"),
), responses((status = 200, body = Controls)))]
#[get("/api/controls?<filter>&<as_of>&<as_known_at>")]
pub async fn list(
    filter: Option<&str>,
    as_of: Option<&str>,
    as_known_at: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Controls> {
    let now = crate::clock::now();
    let (at, known_at) = read_moments(as_of, as_known_at, now)?;
    let moment = Moment { at, known_at, is_now: at == now };
    let db = db.inner();
    refuse_deleted(db, "as_of", at).await?;
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let row = control::at(db, at).await?;
    let catalogue = row.as_ref().map(read_catalogue).transpose()?.unwrap_or_default();
    let scopes: BTreeMap<String, ScopeRow> = control::scope_counts(db, &narrowing, moment)
        .await?
        .into_iter()
        .map(|row| (row.id.clone(), row))
        .collect();
    let Counted { all, rows } =
        compliance::count(db, &narrowing, &[moment], Some(&Dimension::Control), None).await?;
    let mut counted: BTreeMap<String, CountedRow> =
        rows.into_iter().filter_map(|row| Some((row.key.clone()?, row))).collect();
    let (time_allowed_secs, time_allowed_of_releases_secs) =
        (catalogue.time_allowed_secs, catalogue.time_allowed_of_releases_secs.clone());
    let mut controls: Vec<ControlFigures> = catalogue
        .controls
        .into_iter()
        .map(|control| {
            let row = counted.remove(&control.id).unwrap_or_default();
            figures(control, &row, &scopes)
        })
        .collect();
    controls.extend(counted.into_iter().map(|(id, row)| unlisted(id, &row)));
    Ok(Json(Controls {
        as_of: at,
        as_known_at: known_at,
        nodes_in_all: all.first().map_or(0, |all| all.nodes_in_all.unsigned_abs()),
        version: row.map(|row| CatalogueVersion {
            no: row.no,
            set_by: row.set_by,
            because: row.because,
            from: row.from_at.to_jiff(),
            until: None,
        }),
        controls,
        time_allowed_secs,
        time_allowed_of_releases_secs,
        assets: control::asset_list(db).await?.map(summary),
    }))
}

fn figures(control: Control, row: &CountedRow, scopes: &BTreeMap<String, ScopeRow>) -> ControlFigures {
    let scope = scopes.get(&control.id);
    let number = |part: fn(&ScopeRow) -> i64| scope.map_or(0, |row| part(row).unsigned_abs());
    ControlFigures {
        title: Some(control.title),
        text: control.text,
        parent: control.parent,
        source: control.source,
        scope: control.scope,
        is_heading: control.is_heading,
        in_scope: Some(number(|row| row.in_scope)),
        gaps: number(|row| row.gaps),
        beyond_scope: number(|row| row.beyond),
        ..unlisted(control.id, row)
    }
}

/// A control that only clauses name.
fn unlisted(id: String, row: &CountedRow) -> ControlFigures {
    let (nodes, clauses) = (row.nodes(), row.clauses());
    ControlFigures {
        id,
        title: None,
        text: None,
        parent: None,
        source: None,
        scope: None,
        is_heading: false,
        in_scope: None,
        gaps: 0,
        beyond_scope: 0,
        nodes,
        clauses,
        rate_basis_points: clauses.rate().map(Rate::basis_points),
        rate_with_concessions_basis_points: clauses.rate_with_concessions().map(Rate::basis_points),
    }
}

fn read_catalogue(row: &CatalogueRow) -> Result<Catalogue, ApiError> {
    read_stored(|| format!("version {} of the controls", row.no), row.body.clone())
}

/// How the list of assets compares with the fleet.
pub fn summary(row: AssetListRow) -> AssetSummary {
    AssetSummary {
        set_by: row.set_by,
        set: row.set_at.to_jiff(),
        assets: row.assets.unsigned_abs(),
        never_enrolled: row.never_enrolled.unsigned_abs(),
        not_listed: row.not_listed.unsigned_abs(),
    }
}

/// The nodes that a control applies to and that have no clause that satisfies it, by name.
#[utoipa::path(tag = "controls", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("control" = String, Query, description = "The control, by its id"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("as_of" = Option<String>, Query, description = "The moment, as 2026-11-21T23:00:00Z; now if left out"),
    ("after" = Option<String>, Query, description = "Only nodes whose names come after this one"),
), responses((status = 200, body = ControlGaps)))]
#[get("/api/control-gaps?<control>&<filter>&<as_of>&<after>")]
pub async fn gaps(
    control: Option<&str>,
    filter: Option<&str>,
    as_of: Option<&str>,
    after: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<ControlGaps> {
    let id = control.ok_or_else(|| ApiError::invalid("control", "name the control"))?;
    let now = crate::clock::now();
    let (at, known_at) = read_moments(as_of, None, now)?;
    let moment = Moment { at, known_at, is_now: at == now };
    let db = db.inner();
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let row = control::at(db, at).await?;
    let catalogue = row.as_ref().map(read_catalogue).transpose()?.unwrap_or_default();
    let listed = catalogue.controls.into_iter().find(|control| control.id == id && !control.is_heading);
    let listed = listed.ok_or_else(|| ApiError::Missing { what: "control", name: id.to_owned() })?;
    let most = i64::try_from(MAX_NAMED).unwrap_or(i64::MAX) + 1;
    let mut nodes = control::gaps(db, &narrowing, moment, id, (after.unwrap_or_default(), most)).await?;
    let has_more = nodes.len() > MAX_NAMED;
    nodes.truncate(MAX_NAMED);
    Ok(Json(ControlGaps { control: id.to_owned(), scope: listed.scope, nodes, has_more }))
}

/// The versions of the catalogue, the newest first.
#[utoipa::path(tag = "controls", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<CatalogueVersion>)))]
#[get("/api/controls/versions")]
pub async fn versions(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<CatalogueVersion>> {
    let rows = control::versions(db.inner()).await?;
    let version = |row: control::VersionRow| CatalogueVersion {
        no: row.no,
        set_by: row.set_by,
        because: row.because,
        from: row.from_at.to_jiff(),
        until: row.until_at.map(|at| at.to_jiff()),
    };
    Ok(Json(rows.into_iter().map(version).collect()))
}

/// The catalogue that is valid now, as it is written.
#[utoipa::path(tag = "controls", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = ValidCatalogue)))]
#[get("/api/controls/catalogue")]
pub async fn valid(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<ValidCatalogue> {
    let Some(row) = control::at(db.inner(), crate::clock::now()).await? else {
        return Ok(Json(ValidCatalogue::default()));
    };
    let version =
        u32::try_from(row.no).map_err(|error| ApiError::stored("number of the catalogue", &error))?;
    Ok(Json(ValidCatalogue { version, catalogue: read_catalogue(&row)? }))
}

/// Replaces the catalogue from now on; what was asked of the past is answered by the versions of the past.
#[utoipa::path(tag = "controls", security(("token" = ["control.edit"]), ("session" = ["control.edit"])), request_body = SetCatalogue, responses((status = 200, body = CatalogueSet)))]
#[put("/api/controls", data = "<wanted>")]
pub async fn set(
    wanted: JsonBody<SetCatalogue>,
    caller: Allowed<ControlEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<CatalogueSet> {
    let SetCatalogue { mut catalogue, keep_scopes, because, unless_changed_after, preview } = wanted.0;
    if let Some(because) = &because {
        check_reason(because).map_err(|wrong| ApiError::invalid("because", wrong))?;
    }
    let mut transaction = db.begin().await?;
    control::lock(&mut *transaction).await?;
    let before = control::at(&mut *transaction, crate::clock::now()).await?;
    let version = before.as_ref().map_or(0, |row| row.no);
    if let Some(known) = unless_changed_after
        && i64::from(known) != version
    {
        let by = before.as_ref().map(|row| format!(" by {}", row.set_by)).unwrap_or_default();
        return Err(ApiError::Conflict {
            message: format!("the controls were set{by} since version {known}: version {version} is valid"),
            hint: "see what is other: constans control list; then set it with --unless-changed-after and that version".to_owned(),
        });
    }
    let old = before.as_ref().map(read_catalogue).transpose()?.unwrap_or_default();
    if keep_scopes {
        let scopes: BTreeMap<&str, &String> =
            old.controls.iter().filter_map(|one| Some((one.id.as_str(), one.scope.as_ref()?))).collect();
        for control in catalogue.controls.iter_mut().filter(|control| control.scope.is_none()) {
            control.scope = scopes.get(control.id.as_str()).map(|scope| (*scope).clone());
        }
        catalogue.time_allowed_secs = old.time_allowed_secs;
        catalogue.time_allowed_of_releases_secs.clone_from(&old.time_allowed_of_releases_secs);
    }
    let catalogue = checked(catalogue).await?;
    let difference = difference(&old, &catalogue);
    let ids: BTreeSet<&str> = catalogue.controls.iter().map(|control| control.id.as_str()).collect();
    let named = control::named(&mut *transaction).await?;
    let unknown = named.into_iter().filter(|id| !ids.contains(id.as_str())).collect();
    if preview || catalogue == old {
        return Ok(Json(CatalogueSet { version, difference, unknown }));
    }
    let body = serde_json::to_value(&catalogue).map_err(|error| ApiError::failed("writing JSON", &error))?;
    control::set(&mut transaction, &body, &caller.person, because.as_deref()).await?;
    put_in_scopes(&mut transaction).await?;
    let after = control::at(&mut *transaction, crate::clock::now()).await?;
    let version = after.map_or(0, |row| row.no);
    let detail = json!({ "version": version, "because": because, "added": difference.added, "altered": difference.altered, "removed": difference.removed, "time_allowed_secs": catalogue.time_allowed_secs, "time_allowed_of_releases_secs": catalogue.time_allowed_of_releases_secs });
    audit::add(&mut *transaction, &caller.person, "set the controls", &format!("version {version}"), &detail)
        .await?;
    transaction.commit().await?;
    here.waker.wake("nodes");
    Ok(Json(CatalogueSet { version, difference, unknown }))
}

/// Checks a catalogue, on a thread with a large stack: its scopes are compiled.
async fn checked(catalogue: Catalogue) -> Result<Catalogue, ApiError> {
    on_thread(move || {
        let problems = catalogue.problems();
        if problems.is_empty() {
            return Ok(catalogue);
        }
        let more = problems.len().saturating_sub(MAX_PROBLEMS);
        let mut said: Vec<String> = problems
            .iter()
            .take(MAX_PROBLEMS)
            .map(|problem| format!("{}: {}", problem.id, problem.message))
            .collect();
        said.extend((more > 0).then(|| format!("and {more} more")));
        Err(ApiError::invalid("controls", said.join("; ")))
    })
    .await?
}
