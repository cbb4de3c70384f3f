//! Publishing: the same check as everywhere, and refused whole.

use crate::here::{Here, KnownKit};
use crate::problem::{ApiError, read_stored};
use crate::store::release::{self, ReleaseRow};
use crate::store::wanted;
use crate::thread::on_thread;
use constans_core::check::{Checked, Surroundings, check};
use constans_core::digest::{of_contents, of_value};
use constans_core::document::{Finding, KitFiles, Level, explain_findings};
use constans_core::kit::{Kit, require};
use constans_folder::{MAX_BYTES, MAX_FILES, bounds};
use constans_wire::kit::ReleaseFiles;
use jiff_sqlx::ToSqlx as _;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The scheme of releases' digests.
const RELEASE_SCHEME: &str = "k1";

/// Reads the files of a release from the stored contents.
///
/// # Errors
///
/// Returns which contents are lacking.
pub async fn files_of(db: &mut PgConnection, listed: &Value) -> Result<KitFiles, ApiError> {
    let listed: Vec<(String, String)> =
        read_stored(|| "list of files of a release".to_owned(), listed.clone())?;
    let names: Vec<String> = listed.iter().map(|(_, name)| name.clone()).collect();
    let contents: BTreeMap<String, Arc<[u8]>> =
        release::contents(db, &names).await?.into_iter().map(|(name, bytes)| (name, bytes.into())).collect();
    let mut files = BTreeMap::new();
    // A small content under many paths is as much to check as a large kit.
    let mut bytes_of_all = 0;
    for (path, name) in listed {
        let bytes =
            contents.get(&name).ok_or_else(|| ApiError::Missing { what: "content", name: name.clone() })?;
        bytes_of_all += bytes.len() as u64;
        if bytes_of_all > MAX_BYTES {
            return Err(ApiError::TooLarge { what: "a kit", most_bytes: MAX_BYTES });
        }
        files.insert(path, bytes.clone());
    }
    Ok(KitFiles::new(files))
}

/// A kit that is to be published, as far as it was read.
struct Brought {
    /// Its place among those that were sent.
    at: usize,
    listed: Vec<(String, String)>,
    files: KitFiles,
    /// None if it could not even be named.
    kit: Option<Kit>,
}

/// A kit that was checked as publishing does.
pub struct CheckedKit {
    /// Its place among the kits that were sent.
    at: usize,
    listed: Vec<(String, String)>,
    files: KitFiles,
    checked: Checked,
}

/// Checks kits that are published together and returns the releases that they make, each after those that it requires,
/// with all warnings as they are read.
///
/// # Errors
///
/// Returns all findings if one of them is an error, or what is wrong with the lists.
pub async fn check_releases(
    db: &mut PgConnection,
    kits: Vec<ReleaseFiles>,
    by: &str,
) -> Result<(Vec<ReleaseRow>, String), ApiError> {
    let kits = check_kits(db, kits).await?;
    let errors = kits
        .iter()
        .flat_map(|one| &one.checked.findings)
        .filter(|finding| finding.level == Level::Error)
        .count();
    let text: String = kits.iter().map(CheckedKit::explain).collect();
    let rows: Vec<ReleaseRow> =
        kits.iter().filter_map(|one| Some(row_of(one.checked.kit.as_ref()?, &one.listed, by))).collect();
    if errors > 0 || rows.is_empty() {
        let what = if kits.len() > 1 { "the kits were" } else { "the kit was" };
        let message =
            format!("{what} refused whole: {errors} {}", if errors == 1 { "error" } else { "errors" });
        return Err(ApiError::Findings { message, text });
    }
    Ok((rows, text))
}

/// Returns what publishing would find of each kit, in the order in which they were sent.
///
/// # Errors
///
/// Returns what is wrong with the lists.
pub async fn find_releases(
    db: &mut PgConnection,
    kits: Vec<ReleaseFiles>,
) -> Result<Vec<Vec<Finding>>, ApiError> {
    let mut kits = check_kits(db, kits).await?;
    kits.sort_by_key(|one| one.at);
    Ok(kits.into_iter().map(|one| one.checked.findings).collect())
}

impl CheckedKit {
    fn explain(&self) -> String {
        let folder = self.checked.kit.as_ref().map(|kit| format!("{}/", kit.name)).unwrap_or_default();
        explain_findings(&self.checked.findings, &self.files, &folder)
    }
}

/// Checks kits as they are published together, each after those that it requires.
async fn check_kits(db: &mut PgConnection, kits: Vec<ReleaseFiles>) -> Result<Vec<CheckedKit>, ApiError> {
    let mut brought = Vec::new();
    for (at, kit) in kits.into_iter().enumerate() {
        brought.push(read_brought(&mut *db, at, kit.files).await?);
    }
    let published = solvable(&mut *db).await?;
    let at_hand: Vec<Kit> = brought.iter().filter_map(|one| one.kit.clone()).collect();
    let mut all = Vec::new();
    let labels: BTreeSet<String> =
        wanted::labels(&mut *db).await?.into_iter().map(|(label, _)| label).collect();
    for one in in_order(brought) {
        let others = required_by(&mut *db, &one, &at_hand, &published).await?;
        try_check(
            std::iter::once(one.files.clone()).chain(others.iter().map(|kit| kit.files.clone())).collect(),
        )
        .await?;
        let (files, pool, labels) = (one.files.clone(), published.clone(), labels.clone());
        let checked = on_thread(move || {
            let secrets = BTreeSet::new();
            let known = Surroundings {
                kits: &others,
                releases: &pool,
                complete: true,
                labels: Some(&labels),
                secrets: Some(&secrets),
            };
            check(files, None, known)
        })
        .await?;
        all.push(CheckedKit { at: one.at, listed: one.listed, files: one.files, checked });
    }
    Ok(all)
}

async fn read_brought(
    db: &mut PgConnection,
    at: usize,
    mut listed: Vec<(String, String)>,
) -> Result<Brought, ApiError> {
    listed.sort();
    listed.dedup_by(|left, right| left.0 == right.0);
    if listed.len() > MAX_FILES {
        return Err(ApiError::invalid("files", format!("a kit has at most {MAX_FILES} files")));
    }
    for (path, _) in &listed {
        let is_safe = !path.starts_with('/')
            && !path.split('/').any(|part| matches!(part, "" | "." | ".."))
            && !path.chars().any(char::is_control);
        if !is_safe {
            return Err(ApiError::invalid(
                "files",
                format!("`{}` leads out of the kit", path.escape_debug()),
            ));
        }
    }
    let files = files_of(db, &json!(listed)).await?;
    try_check(vec![files.clone()]).await?;
    let for_check = files.clone();
    let kit = on_thread(move || check(for_check, None, Surroundings::default()).kit).await?;
    Ok(Brought { at, listed, files, kit })
}

/// Lets a second process try the check within bounds, so that a hostile kit ends that and not the server.
async fn try_check(kits: Vec<KitFiles>) -> Result<(), ApiError> {
    let failed = |error: &dyn std::fmt::Display| ApiError::failed("trying the check", &error);
    let tried = tokio::task::spawn_blocking(move || {
        let program = std::env::current_exe()?;
        bounds::ends_by_itself(
            std::process::Command::new(program).arg("try-check"),
            &bounds::as_input(kits.iter()),
        )
    });
    if tried.await.map_err(|error| failed(&error))?.map_err(|error| failed(&error))? {
        return Ok(());
    }
    let (message, hint) = bounds::stopped_words();
    Err(ApiError::Conflict { message, hint: hint.to_owned() })
}

/// Returns all releases that requirements are solved by.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn solvable(db: &mut PgConnection) -> Result<Vec<require::Release>, ApiError> {
    let read = |(kit, version, requires): (String, String, Value)| {
        let what = format!("requirements of {kit}@{version}");
        let requires: BTreeMap<String, String> = read_stored(|| what.clone(), requires)?;
        let wanted = |(kit, wanted): (String, String)| {
            Ok((kit, wanted.parse().map_err(|error| ApiError::stored(&*what, &error))?))
        };
        let requires = requires.into_iter().map(wanted).collect::<Result<_, ApiError>>()?;
        Ok(require::Release {
            version: version.parse().map_err(|error| ApiError::stored(&*what, &error))?,
            kit,
            requires,
        })
    };
    release::solvable(db).await?.into_iter().map(read).collect()
}

/// Puts each kit after those that it requires; what goes round stays as it came.
fn in_order(mut brought: Vec<Brought>) -> Vec<Brought> {
    let mut ordered: Vec<Brought> = Vec::new();
    while !brought.is_empty() {
        let names: BTreeSet<String> =
            brought.iter().filter_map(|one| one.kit.as_ref().map(|kit| kit.name.clone())).collect();
        let is_free = |one: &Brought| {
            one.kit
                .as_ref()
                .is_none_or(|kit| !kit.requires.iter().any(|required| names.contains(&required.kit)))
        };
        let at = brought.iter().position(is_free).unwrap_or(0);
        ordered.push(brought.remove(at));
    }
    ordered
}

/// Returns the kits that one requires: sent with it, or read from what is published.
async fn required_by(
    db: &mut PgConnection,
    one: &Brought,
    at_hand: &[Kit],
    published: &[require::Release],
) -> Result<Vec<Kit>, ApiError> {
    let mut kits: Vec<Kit> = at_hand
        .iter()
        .filter(|kit| one.kit.as_ref().is_none_or(|own| own.name != kit.name))
        .cloned()
        .collect();
    let Some(own) = &one.kit else { return Ok(kits) };
    let pool: Vec<require::Release> =
        published.iter().cloned().chain(kits.iter().map(Kit::as_release)).collect();
    let Ok(chosen) = require::solve(&[own.as_release()], &pool) else { return Ok(kits) };
    for (kit, version) in chosen {
        if kit == own.name || kits.iter().any(|known| known.name == kit && known.version == version) {
            continue;
        }
        let Some(row) = release::find(&mut *db, &kit, &version.to_string()).await? else { continue };
        let files = files_of(db, &row.files).await?;
        kits.extend(on_thread(move || check(files, None, Surroundings::default()).kit).await?);
    }
    Ok(kits)
}

fn row_of(kit: &Kit, listed: &[(String, String)], by: &str) -> ReleaseRow {
    let requires: BTreeMap<String, String> =
        kit.requires.iter().map(|one| (one.kit.clone(), one.releases.value.to_string())).collect();
    ReleaseRow {
        kit: kit.name.clone(),
        version: kit.version.to_string(),
        digest: of_value(RELEASE_SCHEME, &listed.to_vec()).as_str().to_owned(),
        summary: kit.summary.clone(),
        requires: json!(requires),
        files: json!(listed),
        published_by: by.to_owned(),
        published_at: crate::clock::now().to_sqlx(),
        withdrawn_at: None,
        withdrawn_by: None,
        withdrawn_because: None,
    }
}

/// Reads one release whole.
///
/// # Errors
///
/// Returns that there is none, or that its contents cannot be read.
pub async fn read_release(
    db: &mut PgConnection,
    here: &Here,
    name: &str,
) -> Result<(ReleaseRow, Arc<Kit>), ApiError> {
    let missing = || ApiError::Missing { what: "release", name: name.to_owned() };
    let (kit, version) = name
        .split_once('@')
        .ok_or_else(|| ApiError::invalid("release", format!("`{name}` is not KIT@VERSION")))?;
    let row = release::find(&mut *db, kit, version).await?.ok_or_else(missing)?;
    let kit = kit_of(db, here, &row).await?.ok_or_else(missing)?;
    Ok((row, kit))
}

/// Returns a release as it was read. Releases never change, so those that are known are not read again.
///
/// # Errors
///
/// Returns that its contents are lacking.
pub async fn kit_of(
    db: &mut PgConnection,
    here: &Here,
    row: &ReleaseRow,
) -> Result<Option<Arc<Kit>>, ApiError> {
    if let Some(known) = here.kits.get(&row.digest) {
        return Ok(Some(known.kit));
    }
    let files = files_of(db, &row.files).await?;
    let bytes =
        files.paths().map(|path| path.len() + files.get(path).map_or(0, <[u8]>::len)).sum::<usize>() as u64;
    let read = on_thread(move || check(files, None, Surroundings::default()).kit).await?.map(Arc::new);
    if let Some(kit) = &read {
        here.kits.insert(row.digest.clone(), KnownKit { kit: kit.clone(), bytes });
    }
    Ok(read)
}

/// Returns whether bytes are what their name says.
pub fn is_named_right(name: &str, bytes: &[u8]) -> bool {
    of_contents(bytes).as_str() == name
}
