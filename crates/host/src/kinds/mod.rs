//! The kinds on a Debian machine: how each is inspected and corrected.

mod account;
mod clock_sources;
mod command;
mod connects;
mod custom;
mod directory;
mod file;
#[cfg(feature = "fuzzing")]
pub mod fuzzing;
mod host_name;
mod kernel_module;
mod kernel_setting;
mod line;
mod link;
mod listening;
pub(crate) mod listing;
mod mount;
mod package;
mod package_source;
mod packet_rule;
mod probe;
mod schedule;
mod service;
mod setting;
mod ssh_key;
mod time_zone;
mod tree;
mod trust_anchor;

pub(crate) use command::run as run_command;
pub(crate) use file::{compared_by_digest, most_bytes};
pub(crate) use trust_anchor::path_of as certificate_path;

use crate::error::HostError;
use crate::files::{Entry, EntryKind, Ownership};
use crate::machine::{InspectionContext, Machine, NotSeen, Work};
use constans_core::address::ClauseAddress;
use constans_core::compare::{Difference, Found, FoundValue, PRESENCE};
use constans_core::kind::{BuiltInKind, Kind};
use constans_core::part::PartError;
use constans_core::run::Seen;
use constans_core::state::Clause;
use std::path::PathBuf;

/// Returns the file that a thing of some kinds is read from, of those that may be for not everybody to read.
pub(crate) fn file_behind(machine: &Machine, kind: &Kind, name: &str) -> Option<PathBuf> {
    match BuiltInKind::of(kind.name())? {
        BuiltInKind::Schedule => Some(machine.files.outside(&schedule::path(name))),
        BuiltInKind::PackageSource => Some(machine.files.outside(&package_source::path(machine, name))),
        BuiltInKind::KernelSetting => Some(kernel_setting::file_of(name)),
        _ => None,
    }
}

pub(crate) fn inspect(
    machine: &mut Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let Some(kind) = BuiltInKind::of(clause.address.kind()) else {
        return match clause.custom {
            Some(_) => custom::inspect(machine, clause, look),
            None => Err(NotSeen::Unsupported(format!(
                "this agent does not know the kind `{}`",
                clause.address.kind()
            ))),
        };
    };
    match kind {
        BuiltInKind::File => file::inspect(machine, clause, look),
        BuiltInKind::Directory => directory::inspect(machine, clause),
        BuiltInKind::Tree => tree::inspect(machine, clause),
        BuiltInKind::Link => link::inspect(machine, clause),
        BuiltInKind::Line => line::inspect(machine, clause, look),
        BuiltInKind::Setting => setting::inspect(machine, clause, look),
        BuiltInKind::Package => package::inspect(machine, clause),
        BuiltInKind::PackageSource => package_source::inspect(machine, clause),
        BuiltInKind::Service => service::inspect(machine, clause),
        BuiltInKind::Schedule => schedule::inspect(machine, clause),
        BuiltInKind::Account => account::inspect(machine, clause),
        BuiltInKind::AccountGroup => account::inspect_group(machine, clause),
        BuiltInKind::SshKey => ssh_key::inspect(machine, clause),
        BuiltInKind::KernelSetting => kernel_setting::inspect(machine, clause),
        BuiltInKind::KernelModule => kernel_module::inspect(machine, clause),
        BuiltInKind::Mount => mount::inspect(machine, clause),
        BuiltInKind::TrustAnchor => trust_anchor::inspect(machine, clause, look),
        BuiltInKind::ClockSources => clock_sources::inspect(machine, clause),
        BuiltInKind::TimeZone => time_zone::inspect(machine, clause),
        BuiltInKind::HostName => host_name::inspect(machine, clause),
        BuiltInKind::PacketRule => packet_rule::inspect(machine, clause),
        BuiltInKind::Listening => listening::inspect(machine, clause),
        BuiltInKind::Connects => connects::inspect(machine, clause),
        BuiltInKind::Probe => probe::inspect(machine, clause),
        BuiltInKind::Command => command::inspect(machine, clause),
    }
}

pub(crate) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let Some(kind) = BuiltInKind::of(clause.address.kind()) else {
        return match clause.custom {
            Some(_) => custom::correct(machine, clause, differences, work),
            None => {
                Err(HostError::new(format!("this agent does not know the kind `{}`", clause.address.kind())))
            }
        };
    };
    match kind {
        BuiltInKind::File => file::correct(machine, clause, differences, work),
        BuiltInKind::Directory => directory::correct(machine, clause, differences, work),
        BuiltInKind::Tree => tree::correct(machine, clause, work),
        BuiltInKind::Link => link::correct(machine, clause, work),
        BuiltInKind::Line => line::correct(machine, clause, work),
        BuiltInKind::Setting => setting::correct(machine, clause, work),
        BuiltInKind::Package => package::correct(machine, clause, differences, work),
        BuiltInKind::PackageSource => package_source::correct(machine, clause, work),
        BuiltInKind::Service => service::correct(machine, clause, differences, work),
        BuiltInKind::Schedule => schedule::correct(machine, clause, work),
        BuiltInKind::Account => account::correct(machine, clause, differences, work),
        BuiltInKind::AccountGroup => account::correct_group(machine, clause, differences, work),
        BuiltInKind::SshKey => ssh_key::correct(machine, clause, work),
        BuiltInKind::KernelSetting => kernel_setting::correct(machine, clause, work),
        BuiltInKind::KernelModule => kernel_module::correct(machine, clause, work),
        BuiltInKind::Mount => mount::correct(machine, clause, differences, work),
        BuiltInKind::TrustAnchor => trust_anchor::correct(machine, clause, work),
        BuiltInKind::ClockSources => clock_sources::correct(machine, clause, work),
        BuiltInKind::TimeZone => time_zone::correct(machine, clause, work),
        BuiltInKind::HostName => host_name::correct(machine, clause, work),
        BuiltInKind::PacketRule => packet_rule::correct(machine, clause, work),
        BuiltInKind::Command => run_command(machine, clause).map(|step| work.done.native.push(step)),
        BuiltInKind::Listening | BuiltInKind::Connects | BuiltInKind::Probe => {
            Err(HostError::new(format!("a {} is only looked at, and cannot be corrected", kind.name())))
        }
    }
}

pub(crate) use package::preview as preview_packages;

/// Puts the file that a clause keeps, whole or a part of it, into the attic as it is.
pub(crate) fn keep(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = match BuiltInKind::of(clause.address.kind()) {
        Some(BuiltInKind::File) => Some(clause.name()).filter(|_| clause.flag("attic") != Some(false)),
        Some(BuiltInKind::Line | BuiltInKind::Setting) => clause.text("in"),
        _ => None,
    };
    let Some(path) = path else { return Ok(()) };
    match machine.files.look(path)? {
        Some(entry) if entry.what == EntryKind::File => {
            work.keep(&machine.files, path, &entry, &clause.address)
        }
        _ => Ok(()),
    }
}

/// Writes a file whole: what stood there goes into the attic, ownership that is not given stays as it was.
fn put(
    machine: &Machine,
    work: &mut Work<'_>,
    clause: &ClauseAddress,
    path: &str,
    contents: &[u8],
    ownership: Ownership,
) -> Result<(), HostError> {
    let entry = machine.files.look(path)?;
    if let Some(entry) = &entry {
        must_be(EntryKind::File, entry, path)?;
        work.keep(&machine.files, path, entry, clause)?;
    }
    machine.files.replace(path, contents, kept_ownership(machine, entry.as_ref(), ownership), |_| Ok(()))?;
    note_replaced(work, path, contents.len() as u64, entry.as_ref());
    Ok(())
}

/// Notes that a file was replaced, and what that means for its other names.
fn note_replaced(work: &mut Work<'_>, path: &str, bytes: u64, old: Option<&Entry>) {
    let others = old.map_or(0, |entry| entry.names.saturating_sub(1));
    let names = match others {
        0 => String::new(),
        1 => "; another name of the old file (a hard link) still has the old contents".to_owned(),
        several => {
            format!("; {several} other names of the old file (hard links) still have the old contents")
        }
    };
    work.note(format!("replace {path} by {bytes} bytes{names}"));
}

/// Adds what a clause does not set of a file's ownership, as it is now.
fn kept_ownership(machine: &Machine, entry: Option<&Entry>, ownership: Ownership) -> Ownership {
    let kept = |number: fn(&Entry) -> u32| entry.filter(|_| machine.no_owners().is_none()).map(number);
    Ownership {
        uid: ownership.uid.or_else(|| kept(|entry| entry.uid)),
        gid: ownership.gid.or_else(|| kept(|entry| entry.gid)),
        permissions: ownership.permissions.or(entry.map(|entry| entry.permissions)),
    }
}

/// Puts a file into the attic and removes it; nothing if it is not there.
fn take_away(
    machine: &Machine,
    work: &mut Work<'_>,
    clause: &ClauseAddress,
    path: &str,
) -> Result<(), HostError> {
    let Some(entry) = machine.files.look(path)? else { return Ok(()) };
    if entry.what == EntryKind::File {
        work.keep(&machine.files, path, &entry, clause)?;
    }
    machine.files.remove(path, entry.what)?;
    work.note(format!("remove {path}"));
    Ok(())
}

/// Reads a text file that others own; none if it is not there.
fn text_of(machine: &Machine, path: &str) -> Result<Option<String>, HostError> {
    let Some(bytes) = machine.files.read(path)? else { return Ok(None) };
    match String::from_utf8(bytes) {
        Ok(text) => Ok(Some(text)),
        Err(_) => Err(HostError::new(format!("{path} is no UTF-8 text"))
            .remedy("manage the whole file with a `file` clause")),
    }
}

/// Returns a text found in a file as it may be shown. Of a file that not everybody may read, what differs is shown
/// only by a keyed digest: it may be a secret of that machine.
fn shown_unless_secret(
    machine: &Machine,
    path: &str,
    found: &str,
    look: &InspectionContext<'_>,
) -> Result<String, HostError> {
    if machine.files.look(path)?.is_none_or(|entry| entry.is_readable_by_all()) {
        return Ok(found.to_owned());
    }
    let digest = look.key.digest(found.as_bytes());
    Ok(format!(
        "differs, not shown because not everybody may read the file ({})",
        digest.as_str().chars().take(11).collect::<String>()
    ))
}

/// Says where a part of a file could not be read or changed.
fn in_file(path: &str, error: PartError) -> HostError {
    let placed = HostError::new(format!("{path}: {}", error.message));
    match error.hint {
        Some(hint) => placed.remedy(hint),
        None => placed,
    }
}

/// Returns a name as a file name that no two names share: what is readable of it, and the beginning of its digest.
fn file_name(name: &str) -> String {
    let plain: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    let digest = constans_core::digest::of_contents(name.as_bytes());
    let short: String = digest.as_str().rsplit(':').next().unwrap_or_default().chars().take(8).collect();
    format!("constans-{}-{short}", plain.trim_matches('-').chars().take(40).collect::<String>())
}

/// Says `now` and `at boot` where both count for one value.
fn now_and_at_boot(now: &str, at_boot: &str) -> String {
    if now == at_boot { now.to_owned() } else { format!("{now} now, {at_boot} at boot") }
}

/// Returns whether a property is among those that differ.
fn differs(differences: &[Difference], property: &str) -> bool {
    differences.iter().any(|difference| difference.property == property)
}

/// Returns whether the thing itself is missing, or is there and must not be.
fn presence_differs(differences: &[Difference]) -> bool {
    differs(differences, PRESENCE)
}

/// Refuses to go on if something else is where a clause's thing should be: it is never replaced without being asked for.
fn must_be(what: EntryKind, entry: &Entry, path: &str) -> Result<(), HostError> {
    if entry.what == what {
        return Ok(());
    }
    let message = format!("{} is in the way at {path}, where {} should be", entry.what.words(), what.words());
    Err(HostError::new(message).remedy("remove it by hand, or declare it as what it is"))
}

/// Adds owner, group and permissions as found, as far as they are wanted.
fn with_ownership(
    machine: &Machine,
    clause: &Clause,
    entry: &Entry,
    mut found: Found,
) -> Result<Found, HostError> {
    if clause.get("owner").is_some() || clause.get("group").is_some() {
        let names = machine.names()?;
        let name = |known: Option<&String>, number: u32| known.cloned().unwrap_or_else(|| number.to_string());
        for (property, value) in [
            ("owner", name(names.accounts.get(&entry.uid), entry.uid)),
            ("group", name(names.groups.get(&entry.gid), entry.gid)),
        ] {
            if clause.get(property).is_some() {
                let value =
                    machine.no_owners().map_or(FoundValue::Value(value.into()), FoundValue::NotExaminedHere);
                found = found.with_found(property, value);
            }
        }
    }
    if clause.get("permissions").is_some() {
        found = found.with("permissions", format!("{:04o}", entry.permissions));
    }
    Ok(found)
}

/// Returns the numbers of the wanted owner, group and permissions. What cannot be set here is left as it is.
fn wanted_ownership(machine: &Machine, clause: &Clause) -> Result<Ownership, HostError> {
    let permissions = clause.text("permissions").and_then(|digits| u32::from_str_radix(digits, 8).ok());
    if machine.no_owners().is_some() {
        return Ok(Ownership { permissions, ..Ownership::default() });
    }
    let missing = |kind: &str, name: &str| {
        HostError::new(format!("the {kind} {name} does not exist"))
            .remedy(format!("add a clause for it, or wait for its package: needs = [\"{kind}:{name}\"]"))
    };
    let uid = match clause.text("owner") {
        Some(name) => Some(match name.parse() {
            Ok(number) => number,
            Err(_) => machine.accounts.account(name)?.ok_or_else(|| missing("account", name))?.uid,
        }),
        None => None,
    };
    let gid = match clause.text("group") {
        Some(name) => Some(match name.parse() {
            Ok(number) => number,
            Err(_) => machine.accounts.group(name)?.ok_or_else(|| missing("account_group", name))?.gid,
        }),
        None => None,
    };
    Ok(Ownership { uid, gid, permissions })
}
