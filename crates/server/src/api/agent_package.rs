//! The packages by which the agent is installed.

use crate::body::MAX_FILE;
use crate::change::documents::read_groups;
use crate::change::resolver::read_overlays;
use crate::here::Here;
use crate::packages::{self, Installer, PackageSays, chosen, install_line, outdated, own_version, sorted};
use crate::problem::{Answer, ApiError};
use crate::store::{agent_package, audit, group};
use crate::thread::on_thread;
use crate::trust::{AgentPackageEdit, Allowed, InvitationMake, NodeRead};
use constans_core::digest::hex;
use constans_core::rollout::Overlay;
use constans_wire::agent_package::{AddedPackage, AgentPackage, InstallLine};
use rocket::data::{Data, ToByteUnit as _};
use rocket::serde::json::Json;
use rocket::{State, delete, get, put};
use serde_json::json;
use sha2::{Digest as _, Sha256};
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;

/// The packages of the agent that this server serves: by format and architecture, the newest first.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<AgentPackage>)))]
#[get("/api/agent-packages")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<AgentPackage>> {
    let mut connection = db.acquire().await?;
    Ok(Json(known(&mut connection).await?))
}

/// The line that installs the agent on a machine: of the newest version, or of one.
#[utoipa::path(tag = "joining", security(("token" = ["join.invite"]), ("session" = ["join.invite"])), params(("version" = Option<String>, Query, description = "The version; the newest without it")), responses((status = 200, body = InstallLine)))]
#[get("/api/install-line?<version>")]
pub async fn line(
    version: Option<&str>,
    _caller: Allowed<InvitationMake>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<InstallLine> {
    let mut connection = db.acquire().await?;
    let line = line_of(&mut connection, here, version).await?;
    line.map(Json).ok_or_else(|| ApiError::Missing {
        what: "package of the agent",
        name: version.unwrap_or("constans-agent").to_owned(),
    })
}

/// Returns the line that installs the agent, if there is a package of it, and keeps what it fetches.
///
/// # Errors
///
/// Returns what went wrong with the database.
pub async fn line_of(
    db: &mut PgConnection,
    here: &Here,
    version: Option<&str>,
) -> Result<Option<InstallLine>, ApiError> {
    let packages = chosen(&known(db).await?, version);
    let Some(url) = here.agent_urls.first().filter(|_| !packages.is_empty()) else { return Ok(None) };
    let installer = Installer::of(&packages, &here.agent_urls);
    let named: Vec<String> = packages.iter().map(|package| package.sha256.clone()).collect();
    agent_package::keep_installer(db, &installer.sha256, &installer.contents, &named).await?;
    Ok(Some(install_line(&installer, url, packages)))
}

/// Returns the packages that are served.
///
/// # Errors
///
/// Returns what went wrong with the database.
pub async fn known(db: &mut PgConnection) -> Result<Vec<AgentPackage>, ApiError> {
    let rows = agent_package::list(db).await?;
    Ok(sorted(rows.into_iter().map(packages::shown).collect::<Result<_, _>>()?))
}

/// Returns the versions that groups name in their settings or nodes have: the first are fetched, the others gone back to.
async fn in_use(db: &mut PgConnection) -> Result<Vec<String>, ApiError> {
    let named = named(&mut *db).await?.into_iter().map(|(_, version)| version);
    Ok(agent_package::running(db).await?.into_iter().chain(named).collect())
}

/// Returns the versions that groups set, and rollouts that are under way, each with who does.
async fn named(db: &mut PgConnection) -> Result<Vec<(String, String)>, ApiError> {
    let groups = read_groups(group::all(&mut *db).await?)?.into_iter();
    let by_groups =
        groups.filter_map(|group| Some((format!("the group {}", group.name), group.settings.agent_version?)));
    let in_waves = read_overlays(&mut *db).await?.into_iter().flat_map(|Overlay { rollout, edits }| {
        let set = edits.into_iter().filter_map(|edit| edit.after);
        set.filter_map(move |body| {
            Some((format!("C{rollout}"), body["settings"]["agent_version"].as_str()?.to_owned()))
        })
    });
    Ok(by_groups.chain(in_waves).collect())
}

/// Adds a package of the agent, as .deb or .rpm. Versions that are neither the server's own nor one of the two before leave, unless groups set them or nodes have them.
#[utoipa::path(tag = "joining", security(("token" = ["agent_package.edit"]), ("session" = ["agent_package.edit"])), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = AddedPackage)))]
#[put("/api/agent-packages", data = "<body>")]
pub async fn add(
    body: Data<'_>,
    caller: Allowed<AgentPackageEdit>,
    db: &State<PgPool>,
) -> Answer<AddedPackage> {
    let sent = body.open(MAX_FILE.bytes()).into_bytes().await.map_err(ApiError::CutOff)?;
    if !sent.is_complete() {
        return Err(ApiError::TooLarge { what: "a package", most_bytes: MAX_FILE });
    }
    let contents = sent.value;
    let (says, sha256, contents) =
        on_thread(move || (packages::read(&contents), hex(&Sha256::digest(&contents)), contents)).await?;
    let PackageSays { format, version, architecture, glibc } =
        says.map_err(|because| ApiError::invalid("package", because))?;
    let own = own_version();
    if version > own {
        return Err(ApiError::Conflict {
            message: format!("the package has version {version}, and this server {own}"),
            hint: "an agent is never newer than its server: upgrade the server first".to_owned(),
        });
    }
    let (version, format) = (version.to_string(), format.to_string());
    let mut transaction = db.begin().await?;
    agent_package::lock(&mut *transaction).await?;
    let before = known(&mut transaction).await?;
    let same = |one: &&AgentPackage| {
        one.version == version && one.format.to_string() == format && one.architecture == architecture
    };
    let was_there = match before.iter().find(same) {
        Some(there) if there.sha256 != sha256 => {
            return Err(ApiError::Conflict {
                message: format!(
                    "version {version} for {architecture} is there already, with other contents"
                ),
                hint: format!(
                    "a version never changes: make a new one, or take the other away first: constans agent-package remove {}",
                    &there.sha256[..12]
                ),
            });
        }
        there => there.is_some(),
    };
    if !was_there {
        let package = agent_package::NewPackage {
            sha256: &sha256,
            version: &version,
            format: &format,
            architecture: &architecture,
            glibc: &glibc,
            contents: &contents,
            added_by: &caller.person,
        };
        agent_package::add(&mut *transaction, &package).await?;
        let about = json!({ "version": version, "format": format, "architecture": architecture });
        audit::add(&mut *transaction, &caller.person, "added a package of the agent", &sha256, &about)
            .await?;
    }
    let now = known(&mut transaction).await?;
    let in_use = in_use(&mut transaction).await?;
    let left = outdated(&now, &own, &in_use);
    if left.iter().any(|one| one.sha256 == sha256) {
        return Err(ApiError::Conflict {
            message: format!("version {version} is too old to be served"),
            hint: format!("served are the server's own version, {own}, and the two before it that it has"),
        });
    }
    for one in &left {
        agent_package::remove(&mut *transaction, &one.sha256).await?;
    }
    agent_package::forget_installers(&mut *transaction).await?;
    transaction.commit().await?;
    let package = now.into_iter().find(|one| one.sha256 == sha256);
    let package = package.ok_or_else(|| ApiError::failed("adding a package", &"it is not there"))?;
    Ok(Json(AddedPackage { package, was_there, left }))
}

/// Removes a package, by its SHA-256. Lines that install it no longer work.
#[utoipa::path(tag = "joining", security(("token" = ["agent_package.edit"]), ("session" = ["agent_package.edit"])), responses((status = 200, body = bool)))]
#[delete("/api/agent-packages/<sha256>")]
pub async fn remove(sha256: &str, caller: Allowed<AgentPackageEdit>, db: &State<PgPool>) -> Answer<bool> {
    let mut transaction = db.begin().await?;
    agent_package::lock(&mut *transaction).await?;
    let version = known(&mut transaction).await?.into_iter().find(|one| one.sha256 == sha256);
    if let Some(AgentPackage { version, .. }) = version
        && let Some((who, _)) = named(&mut transaction).await?.iter().find(|(_, named)| *named == version)
    {
        return Err(ApiError::Conflict {
            message: format!("{who} sets agent_version = \"{version}\""),
            hint: "agents may fetch it: set another version there first, or none".to_owned(),
        });
    }
    if !agent_package::remove(&mut *transaction, sha256).await? {
        return Err(ApiError::Missing { what: "package", name: sha256.to_owned() });
    }
    audit::add(&mut *transaction, &caller.person, "removed a package of the agent", sha256, &json!({}))
        .await?;
    agent_package::forget_installers(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(Json(true))
}
