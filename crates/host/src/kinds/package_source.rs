//! Repositories that packages come from: a file of apt's or dnf's folder each, and the key that signs it.

mod apt_source;
mod dnf_repository;

use super::{put, take_away, text_of};
use crate::error::HostError;
use crate::files::{MAX_FILE, Ownership};
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::openpgp::fingerprint;
use constans_core::compare::{Found, FoundValue};
use constans_core::digest::of_contents;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

/// The contents of a repository's file.
struct Written {
    is_enabled: bool,
    url: String,
    suite: FoundValue,
    parts: FoundValue,
    /// The path of its key.
    key: Option<String>,
}

/// How a package manager's repositories are written.
struct Format {
    /// The folder that must be there, else the package manager is not.
    needs: &'static str,
    folder: &'static str,
    extension: &'static str,
    keys: &'static str,
    read: fn(name: &str, text: &str) -> Written,
    write: fn(clause: &Clause, key: Option<&str>) -> Result<String, HostError>,
}

impl Format {
    fn of(machine: &mut Machine, clause: &Clause) -> &'static Self {
        Self::by_name(machine.packages_of(clause).manager().name())
    }

    fn by_name(manager: &str) -> &'static Self {
        if manager == "rpm" { &dnf_repository::FORMAT } else { &apt_source::FORMAT }
    }

    /// Where a repository of this name, and its key, are written.
    fn paths(&self, name: &str) -> (String, [String; 2]) {
        let name = file_name(name);
        let key = |extension: &str| format!("{}/{name}.{extension}", self.keys);
        (format!("{}/{name}.{}", self.folder, self.extension), [key("asc"), key("gpg")])
    }
}

/// Any text as a repository's file.
#[cfg(feature = "fuzzing")]
pub(super) fn fuzz(text: &str) {
    for format in [&apt_source::FORMAT, &dnf_repository::FORMAT] {
        let _ = (format.read)("skerry", text);
    }
}

/// Returns a repository's name as a file's, and as a section's.
fn file_name(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '_' }).collect()
}

/// Returns the names of the repositories that have a file of their own.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, HostError> {
    let format = Format::by_name(machine.package_manager().name());
    let files = machine.files.list(format.folder)?.unwrap_or_default();
    Ok(files
        .iter()
        .filter_map(|file| file.strip_suffix(format.extension)?.strip_suffix('.'))
        .map(str::to_owned)
        .collect())
}

/// Returns the file that a repository of this name is written in.
pub(super) fn path(machine: &Machine, name: &str) -> String {
    Format::by_name(machine.package_manager().name()).paths(name).0
}

pub(super) fn inspect(machine: &mut Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let format = Format::of(machine, clause);
    if machine.files.look(format.needs)?.is_none() {
        return Err(NotSeen::Unsupported(format!(
            "there is no {} here ({})",
            machine.packages_of(clause).manager().name(),
            format.needs
        )));
    }
    let (path, _) = format.paths(clause.name());
    let Some(text) = text_of(machine, &path)? else { return Ok(seen(Found::absent())) };
    let written = (format.read)(&file_name(clause.name()), &text);
    if !written.is_enabled {
        return Ok(seen(Found::half(format!("{path}, which says that it is not enabled"))));
    }
    let key = written.key.map(|path| machine.files.read(&path)).transpose()?.flatten();
    let mut found = Found::present();
    for property in ["url", "suite", "parts", "signed_by", "fingerprint"] {
        if clause.get(property).is_none() {
            continue;
        }
        let value = match (property, &key) {
            ("url", _) => FoundValue::Value(json!(written.url)),
            ("suite", _) => written.suite.clone(),
            ("parts", _) => written.parts.clone(),
            ("signed_by", Some(key)) => FoundValue::Value(json!(of_contents(key).as_str())),
            (_, Some(key)) => match fingerprint(key) {
                Ok(fingerprint) => FoundValue::Value(json!(fingerprint)),
                Err(error) => FoundValue::Unreadable(error.message),
            },
            (_, None) => FoundValue::Value(json!("no key")),
        };
        found = found.with_found(property, value);
    }
    Ok(seen(found))
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let format = Format::of(machine, clause);
    let (path, keys) = format.paths(clause.name());
    machine.packages_of(clause).sources_changed();
    if clause.gone != Gone::No {
        take_away(machine, work, &clause.address, &path)?;
        return keys.iter().try_for_each(|key| take_away(machine, work, &clause.address, key));
    }
    let readable = Ownership { permissions: Some(0o644), ..Ownership::default() };
    let signed_by = match clause.text("signed_by") {
        Some(digest) => Some(put_key(machine, clause, digest, &keys, readable, work)?),
        None => None,
    };
    let text = format!(
        "# Managed by Constans, {}.\n{}",
        clause.address,
        (format.write)(clause, signed_by.as_deref())?
    );
    machine.files.make_way(&path)?;
    put(machine, work, &clause.address, &path, text.as_bytes(), readable)
}

/// Puts the key beside the others, if it is the expected one.
fn put_key(
    machine: &Machine,
    clause: &Clause,
    digest: &str,
    keys: &[String; 2],
    readable: Ownership,
    work: &mut Work<'_>,
) -> Result<String, HostError> {
    let key = work
        .contents
        .get(digest)
        .ok_or_else(|| HostError::new(format!("the contents {digest} are missing")))?
        .to_vec();
    let found = fingerprint(&key)?;
    if let Some(wanted) = clause.text("fingerprint").filter(|wanted| *wanted != found) {
        return Err(HostError::new(format!(
            "the key of {} has the fingerprint {found}, not {wanted}",
            clause.name()
        ))
        .remedy("nothing was changed: find out which fingerprint is right before you trust its packages"));
    }
    // apt knows by the name whether a key is armoured.
    let (path, other) = if key.starts_with(b"-----") { (&keys[0], &keys[1]) } else { (&keys[1], &keys[0]) };
    machine.files.make_way(path)?;
    if machine.files.digest(path, MAX_FILE)?.is_none_or(|found| found.as_str() != digest) {
        put(machine, work, &clause.address, path, &key, readable)?;
    }
    take_away(machine, work, &clause.address, other)?;
    Ok(path.clone())
}
