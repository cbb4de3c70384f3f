//! A folder of the kit as a folder of the node.

use super::{must_be, put, take_away, wanted_ownership};
use crate::error::HostError;
use crate::files::{EntryKind, MAX_FILE, Ownership};
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::{Found, FoundValue};
use constans_core::digest::of_contents;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};

/// At most this many unknown entries are removed at once.
const MAX_REMOVED: usize = 20;
/// At most this many entries of a tree that should be gone are removed.
const MAX_GONE: usize = 1_000;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let top = clause.name();
    let Some(entry) = machine.files.look(top)? else { return Ok(seen(Found::absent())) };
    must_be(EntryKind::Directory, &entry, top)?;
    if clause.gone != Gone::No {
        return Ok(seen(Found::present()));
    }
    let wanted = Wanted::of(clause);
    let mut files = Map::new();
    for path in wanted.files.keys() {
        let whole = format!("{top}/{path}");
        if let Some(entry) = machine.files.look(&whole)? {
            must_be(EntryKind::File, &entry, &whole)?;
            files.insert(
                path.clone(),
                Value::from(
                    machine.files.digest(&whole, MAX_FILE)?.unwrap_or_else(|| of_contents(b"")).as_str(),
                ),
            );
        }
    }
    let mut found = Found::present().with("copy", files);
    for (property, value) in unlike(machine, clause, &wanted)? {
        found = found.with_found(property, value);
    }
    if clause.flag("only_known") == Some(true) {
        found = found.with("only_known", unknown(machine, top, &wanted)?);
    }
    Ok(seen(found))
}

/// What the clause wants below its path.
struct Wanted {
    /// The digests of contents by path below the top.
    files: BTreeMap<String, String>,
    /// The folders below the top.
    folders: BTreeSet<String>,
}

impl Wanted {
    fn of(clause: &Clause) -> Self {
        let copy = clause.get("copy").and_then(Value::as_object).into_iter().flatten();
        let files: BTreeMap<String, String> =
            copy.filter_map(|(path, digest)| Some((path.clone(), digest.as_str()?.to_owned()))).collect();
        let ways = files.keys().flat_map(|path| path.match_indices('/').map(|(at, _)| path[..at].to_owned()));
        Self { folders: ways.collect(), files }
    }
}

/// Returns owner, group and permissions as they are wanted if all entries have them so, else which have others.
fn unlike(
    machine: &Machine,
    clause: &Clause,
    wanted: &Wanted,
) -> Result<Vec<(&'static str, FoundValue)>, HostError> {
    let names = machine.accounts.names()?;
    let top = clause.name();
    let mut others: BTreeMap<&'static str, Vec<String>> = BTreeMap::new();
    let folders =
        std::iter::once(String::new()).chain(wanted.folders.iter().cloned()).map(|path| (path, true));
    for (path, is_folder) in folders.chain(wanted.files.keys().cloned().map(|path| (path, false))) {
        let Some(entry) = machine.files.look(format!("{top}/{path}").trim_end_matches('/'))? else {
            continue;
        };
        let permissions = format!("{:04o}", entry.permissions);
        let owner = names.accounts.get(&entry.uid).cloned().unwrap_or_else(|| entry.uid.to_string());
        let group = names.groups.get(&entry.gid).cloned().unwrap_or_else(|| entry.gid.to_string());
        let of_permissions = if is_folder { "dir_permissions" } else { "file_permissions" };
        for (property, value) in [("owner", owner), ("group", group), (of_permissions, permissions)] {
            if clause.text(property).is_some_and(|wanted| wanted != value) {
                others
                    .entry(property)
                    .or_default()
                    .push(format!("{value} of {}", if path.is_empty() { top } else { &path }));
            }
        }
    }
    let mut found = Vec::new();
    for property in ["owner", "group", "file_permissions", "dir_permissions"] {
        let Some(wanted) = clause.text(property) else { continue };
        let value = match others.get(property) {
            None => Value::from(wanted),
            Some(several) if several.len() > 3 => {
                Value::from(format!("{}, and {} more", several[..3].join(", "), several.len() - 3))
            }
            Some(few) => Value::from(few.join(", ")),
        };
        let not_here = machine.no_owners().filter(|_| matches!(property, "owner" | "group"));
        found.push((property, not_here.map_or(FoundValue::Value(value), FoundValue::NotExaminedHere)));
    }
    Ok(found)
}

/// Returns the paths below the top that are not of the kit's folder.
fn unknown(machine: &Machine, top: &str, wanted: &Wanted) -> Result<Vec<String>, HostError> {
    let mut unknown = Vec::new();
    let mut folders = vec![String::new()];
    while let Some(folder) = folders.pop() {
        for name in machine.files.list(&format!("{top}/{folder}"))?.unwrap_or_default() {
            let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
            let whole = format!("{top}/{path}");
            if wanted.folders.contains(&path) {
                folders.push(path);
            } else if !wanted.files.contains_key(&path) && !machine.left_behind.contains(&whole) {
                unknown.push(path);
            }
        }
    }
    unknown.sort();
    Ok(unknown)
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let top = clause.name();
    if clause.gone != Gone::No {
        return remove_whole(machine, clause, work, &[top.to_owned()], MAX_GONE);
    }
    let wanted = Wanted::of(clause);
    let whose = Ownership { permissions: None, ..wanted_ownership(machine, clause)? };
    let octal = |property: &str| clause.text(property).and_then(|digits| u32::from_str_radix(digits, 8).ok());
    let of_folders = Ownership { permissions: octal("dir_permissions"), ..whose };
    let of_files = Ownership { permissions: octal("file_permissions"), ..whose };
    for path in
        std::iter::once(top.to_owned()).chain(wanted.folders.iter().map(|path| format!("{top}/{path}")))
    {
        match machine.files.look(&path)? {
            None => {
                machine.files.make_directory(&path, of_folders)?;
                work.note(format!("make the directory {path}"));
            }
            Some(entry) => {
                must_be(EntryKind::Directory, &entry, &path)?;
                machine.files.set_ownership(&path, of_folders)?;
            }
        }
    }
    for (path, digest) in &wanted.files {
        let whole = format!("{top}/{path}");
        let contents = work
            .contents
            .get(digest)
            .ok_or_else(|| HostError::new(format!("the contents {digest} are missing")))?
            .to_vec();
        if machine.files.digest(&whole, MAX_FILE)?.is_some_and(|found| found.as_str() == digest) {
            machine.files.set_ownership(&whole, of_files)?;
        } else {
            put(machine, work, &clause.address, &whole, &contents, of_files)?;
        }
    }
    if clause.flag("only_known") == Some(true) {
        let surplus: Vec<String> =
            unknown(machine, top, &wanted)?.iter().map(|path| format!("{top}/{path}")).collect();
        remove_whole(machine, clause, work, &surplus, MAX_REMOVED)?;
    }
    Ok(())
}

/// Removes these paths with everything below them; files go into the attic. Nothing is removed if there is too much.
fn remove_whole(
    machine: &Machine,
    clause: &Clause,
    work: &mut Work<'_>,
    tops: &[String],
    most: usize,
) -> Result<(), HostError> {
    let mut all = Vec::new();
    let mut to_see: Vec<String> = tops.to_vec();
    while let Some(path) = to_see.pop() {
        let Some(entry) = machine.files.look(&path)? else { continue };
        if entry.what == EntryKind::Directory {
            to_see.extend(
                machine.files.list(&path)?.unwrap_or_default().iter().map(|name| format!("{path}/{name}")),
            );
        }
        all.push((path, entry.what));
        if all.len() > most {
            let message = format!("more than {most} entries of {} would be removed at once", clause.name());
            return Err(HostError::new(message).remedy("check them first: this can be a wrong folder"));
        }
    }
    // The deepest first: a directory is empty when its turn comes.
    all.sort_by_key(|(path, _)| std::cmp::Reverse(path.matches('/').count()));
    all.iter().try_for_each(|(path, _)| take_away(machine, work, &clause.address, path))
}
