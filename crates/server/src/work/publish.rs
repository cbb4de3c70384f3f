//! Publishing: the same check as everywhere, and refused whole.

use crate::problem::ApiError;
use crate::store::release::{self, ReleaseRow};
use constans_core::digest::{of_contents, of_value};
use constans_core::kit::{Checked, KitFiles, Level, check, explain_findings};
use constans_folder::on_large_stack;
use jiff_sqlx::ToSqlx as _;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::BTreeMap;

/// The scheme of releases' digests.
const RELEASE_SCHEME: &str = "k1";
/// The largest file of a kit, in bytes.
pub const LARGEST_FILE: u64 = 64 * 1024 * 1024;

/// Reads the files of a release from the stored contents.
///
/// # Errors
///
/// Returns which contents are lacking.
pub async fn files_of(db: &mut PgConnection, listed: &Value) -> Result<KitFiles, ApiError> {
    let listed: Vec<(String, String)> = serde_json::from_value(listed.clone()).map_err(|error| ApiError::Wrong(error.to_string()))?;
    let names: Vec<String> = listed.iter().map(|(_, name)| name.clone()).collect();
    let contents: BTreeMap<String, Vec<u8>> = release::contents(db, &names).await?.into_iter().collect();
    let mut files = BTreeMap::new();
    for (path, name) in listed {
        let bytes = contents.get(&name).ok_or_else(|| ApiError::Missing { what: "content", name: name.clone() })?;
        files.insert(path, bytes.clone());
    }
    Ok(KitFiles::new(files))
}

/// Checks files as a kit and returns the release that they make.
///
/// # Errors
///
/// Returns all findings if one of them is an error, or what is wrong with the list.
pub async fn check_release(db: &mut PgConnection, mut listed: Vec<(String, String)>, by: &str) -> Result<ReleaseRow, ApiError> {
    listed.sort();
    listed.dedup_by(|left, right| left.0 == right.0);
    for (path, _) in &listed {
        let is_safe = !path.starts_with('/') && !path.split('/').any(|part| matches!(part, "" | "." | "..")) && !path.chars().any(char::is_control);
        if !is_safe {
            return Err(ApiError::Wrong(format!("`{}` leads out of the kit", path.escape_debug())));
        }
    }
    let files_json = json!(listed);
    let files = files_of(db, &files_json).await?;
    let for_text = files.clone();
    let checked = tokio::task::spawn_blocking(move || on_large_stack(|| check(files, None))).await;
    let checked: Checked = checked.map_err(|error| ApiError::Wrong(format!("the check broke off: {error}")))?;
    let errors = checked.findings.iter().filter(|finding| finding.level == Level::Error).count();
    let (0, Some(kit)) = (errors, checked.kit) else {
        let message = format!("the kit was refused whole: {errors} {}", if errors == 1 { "error" } else { "errors" });
        return Err(ApiError::Findings { message, text: explain_findings(&checked.findings, &for_text, "") });
    };
    let requires: BTreeMap<String, String> = kit.requires.iter().map(|one| (one.kit.clone(), one.releases.value.to_string())).collect();
    Ok(ReleaseRow {
        kit: kit.name,
        version: kit.version.to_string(),
        digest: of_value(RELEASE_SCHEME, &listed).as_str().to_owned(),
        summary: kit.summary,
        requires: json!(requires),
        files: files_json,
        published_by: by.to_owned(),
        published_at: jiff::Timestamp::now().to_sqlx(),
    })
}

/// Returns whether bytes are what their name says.
pub fn is_named_right(name: &str, bytes: &[u8]) -> bool {
    of_contents(bytes).as_str() == name
}
