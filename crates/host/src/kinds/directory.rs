//! Directories: that they are there, their ownership, and that nothing unknown is in them.

use super::{differs, must_be, presence_differs, wanted_ownership, with_ownership};
use crate::error::HostError;
use crate::files::EntryKind;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::{Difference, Found};
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use std::collections::BTreeSet;

/// At most this many unknown entries are removed at once.
const MAX_REMOVED: usize = 20;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let path = clause.name();
    let Some(entry) = machine.files.look(path)? else { return Ok(seen(Found::absent())) };
    must_be(EntryKind::Directory, &entry, path)?;
    let mut found = with_ownership(machine, clause, &entry, Found::present())?;
    if clause.flag("only_known") == Some(true) {
        found = found.with("only_known", unknown_entries(machine, clause)?);
    }
    Ok(seen(found))
}

/// Returns the entries that no clause names, no package owns, and Constans did not leave behind.
fn unknown_entries(machine: &Machine, clause: &Clause) -> Result<Vec<String>, HostError> {
    let folder = clause.name().trim_end_matches('/');
    let known: BTreeSet<&str> = clause.list("known_entries").into_iter().collect();
    let mut unknown = Vec::new();
    let below = format!("{folder}/");
    let left_behind = |name: &str| {
        let path = format!("{below}{name}");
        machine.left_behind.iter().any(|left| *left == path || left.starts_with(&format!("{path}/")))
    };
    for name in machine.files.list(folder)?.unwrap_or_default() {
        if !known.contains(name.as_str()) && !left_behind(&name) {
            unknown.push(name);
        }
    }
    if unknown.is_empty() {
        return Ok(unknown);
    }
    let owned = machine.package_manager().owned_below(&below)?;
    unknown.retain(|name| !owned.contains(name.as_str()));
    Ok(unknown)
}

pub(super) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let path = clause.name();
    if clause.gone != Gone::No {
        machine.files.remove(path, EntryKind::Directory)?;
        work.note(format!("remove the empty directory {path}"));
        return Ok(());
    }
    let ownership = wanted_ownership(machine, clause)?;
    if presence_differs(differences) {
        machine.files.make_directory(path, ownership)?;
        work.note(format!("make the directory {path}"));
    } else if ["owner", "group", "permissions"].iter().any(|property| differs(differences, property)) {
        machine.files.set_ownership(path, ownership)?;
        work.note(format!("set the ownership of {path}"));
    }
    if differs(differences, "only_known") {
        remove_unknown(machine, clause, work)?;
    }
    Ok(())
}

fn remove_unknown(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let unknown = unknown_entries(machine, clause)?;
    if unknown.len() > MAX_REMOVED {
        let message = format!(
            "{} entries of {} are unknown, and at most {MAX_REMOVED} are removed at once",
            unknown.len(),
            clause.name()
        );
        return Err(HostError::new(message).remedy("check them first: this can be a wrong folder"));
    }
    for name in unknown {
        let path = format!("{}/{name}", clause.name().trim_end_matches('/'));
        let Some(entry) = machine.files.look(&path)? else { continue };
        if entry.what == EntryKind::File {
            work.keep(&machine.files, &path, &entry, &clause.address)?;
        }
        machine.files.remove(&path, entry.what)?;
        work.note(format!("remove {path}"));
    }
    Ok(())
}
