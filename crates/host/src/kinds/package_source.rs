//! Repositories that packages come from: a file of apt's folder each, and the key that signs it.

use super::{make_way, put, take_away, text_of};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::openpgp::fingerprint;
use constans_core::compare::{Found, FoundValue};
use constans_core::digest::of_contents;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

const SOURCES: &str = "/etc/apt/sources.list.d";
const KEYS: &str = "/etc/apt/keyrings";

/// Where a repository of this name, and its key, are written.
fn paths(name: &str) -> (String, [String; 2]) {
    let name: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '_' }).collect();
    (format!("{SOURCES}/{name}.sources"), [format!("{KEYS}/{name}.asc"), format!("{KEYS}/{name}.gpg")])
}

/// Returns the names of the repositories that have a file of their own.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, HostError> {
    let files = machine.files.list(SOURCES)?.unwrap_or_default();
    Ok(files.iter().filter_map(|file| file.strip_suffix(".sources")).map(str::to_owned).collect())
}

/// Returns the value of a field of a deb822(5) text.
fn field(text: &str, name: &str) -> Option<String> {
    text.lines().filter_map(|line| line.split_once(':')).find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.trim().to_owned())
}

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    if machine.files.look("/etc/apt")?.is_none() {
        return Err(NotSeen::Unsupported("there is no apt here (/etc/apt)".to_owned()));
    }
    let (path, _) = paths(clause.name());
    let Some(text) = text_of(machine, &path)? else { return Ok(seen(Found::absent())) };
    if field(&text, "Enabled").is_some_and(|value| value == "no") {
        return Ok(seen(Found::half(format!("{path}, which says Enabled: no"))));
    }
    let words = |name: &str| field(&text, name).map(|value| value.split_whitespace().map(str::to_owned).collect::<Vec<_>>()).unwrap_or_default();
    let key = field(&text, "Signed-By").map(|path| machine.files.read(&path)).transpose()?.flatten();
    let mut found = Found::present();
    for property in ["url", "suite", "parts", "signed_by", "fingerprint"] {
        if clause.get(property).is_none() {
            continue;
        }
        let value = match (property, &key) {
            ("url", _) => json!(words("URIs").join(" ")),
            ("suite", _) => json!(words("Suites").join(" ")),
            ("parts", _) => json!(words("Components")),
            ("signed_by", Some(key)) => json!(of_contents(key).as_str()),
            (_, Some(key)) => match fingerprint(key) {
                Ok(fingerprint) => json!(fingerprint),
                Err(error) => {
                    found = found.with_found(property, FoundValue::Unreadable(error.message));
                    continue;
                }
            },
            (_, None) => json!("no key"),
        };
        found = found.with(property, value);
    }
    Ok(seen(found))
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let (path, keys) = paths(clause.name());
    machine.packages.sources_changed();
    if clause.gone != Gone::No {
        take_away(machine, work, &clause.address, &path)?;
        return keys.iter().try_for_each(|key| take_away(machine, work, &clause.address, key));
    }
    let readable = Ownership { permissions: Some(0o644), ..Ownership::default() };
    let signed_by = match clause.text("signed_by") {
        Some(digest) => Some(put_key(machine, clause, digest, &keys, readable, work)?),
        None => None,
    };
    let suite = clause.text("suite").unwrap_or("./");
    let mut lines = vec![
        format!("# Kept by Constans, {}.", clause.address),
        "Types: deb".to_owned(),
        format!("URIs: {}", clause.text("url").unwrap_or_default()),
        format!("Suites: {suite}"),
    ];
    let parts = clause.list("parts");
    match (suite.ends_with('/'), parts.is_empty()) {
        (true, false) => return Err(HostError::new(format!("the suite {suite} is a folder, which has no parts")).remedy("take `parts` away")),
        (false, true) => lines.push("Components: main".to_owned()),
        (true, true) => {}
        (false, false) => lines.push(format!("Components: {}", parts.join(" "))),
    }
    lines.extend(signed_by.map(|key| format!("Signed-By: {key}")));
    make_way(machine, &path)?;
    put(machine, work, &clause.address, &path, format!("{}\n", lines.join("\n")).as_bytes(), readable)
}

/// Puts the key beside apt's others, if it is the one that is meant.
fn put_key(
    machine: &Machine,
    clause: &Clause,
    digest: &str,
    keys: &[String; 2],
    readable: Ownership,
    work: &mut Work<'_>,
) -> Result<String, HostError> {
    let key = work.contents.get(digest).ok_or_else(|| HostError::new(format!("the contents {digest} are not here yet")))?.to_vec();
    let found = fingerprint(&key)?;
    if let Some(wanted) = clause.text("fingerprint").filter(|wanted| *wanted != found) {
        return Err(HostError::new(format!("the key of {} has the fingerprint {found}, not {wanted}", clause.name()))
            .remedy("nothing was changed: find out which of both is right before packages are trusted by it"));
    }
    // apt knows by the name whether a key is armoured.
    let (path, other) = if key.starts_with(b"-----") { (&keys[0], &keys[1]) } else { (&keys[1], &keys[0]) };
    make_way(machine, path)?;
    if machine.files.digest(path)?.is_none_or(|found| found.as_str() != digest) {
        put(machine, work, &clause.address, path, &key, readable)?;
    }
    take_away(machine, work, &clause.address, other)?;
    Ok(path.clone())
}
