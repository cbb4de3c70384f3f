//! The kinds on a Debian machine: how each is inspected and corrected.

mod account;
mod command;
mod directory;
mod file;
mod link;
mod package;
mod service;

pub(crate) use command::run as run_command;

use crate::error::HostError;
use crate::files::{Entry, Ownership, What};
use crate::machine::{Look, Machine, NotSeen, Work};
use constans_core::compare::{Difference, Found, FoundValue, PRESENCE};
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(crate) fn inspect(machine: &mut Machine, clause: &Clause, look: &Look<'_>) -> Result<Seen, NotSeen> {
    match clause.address.kind() {
        "file" => file::inspect(machine, clause, look),
        "directory" => directory::inspect(machine, clause),
        "link" => link::inspect(machine, clause),
        "package" => package::inspect(machine, clause),
        "service" => service::inspect(machine, clause),
        "account" => account::inspect(machine, clause),
        "account_group" => account::inspect_group(machine, clause),
        "command" => command::inspect(machine, clause),
        other => Err(NotSeen::Unsupported(format!("this agent does not know the kind `{other}`"))),
    }
}

pub(crate) fn correct(machine: &mut Machine, clause: &Clause, differences: &[Difference], work: &mut Work<'_>) -> Result<(), HostError> {
    match clause.address.kind() {
        "file" => file::correct(machine, clause, differences, work),
        "directory" => directory::correct(machine, clause, differences, work),
        "link" => link::correct(machine, clause, work),
        "package" => package::correct(machine, clause, differences, work),
        "service" => service::correct(machine, clause, differences, work),
        "account" => account::correct(machine, clause, differences, work),
        "account_group" => account::correct_group(machine, clause, differences, work),
        "command" => run_command(machine, clause).map(|step| work.done.native.push(step)),
        other => Err(HostError::new(format!("this agent does not know the kind `{other}`"))),
    }
}

/// Returns whether a property is among those that differ.
fn differs(differences: &[Difference], property: &str) -> bool {
    differences.iter().any(|difference| difference.property == property)
}

/// Returns whether the thing itself is missing, or is there and must not be.
fn presence_differs(differences: &[Difference]) -> bool {
    differs(differences, PRESENCE)
}

/// Refuses to go on if something else stands where a clause's thing should be: it is never replaced unasked.
fn must_be(what: What, entry: &Entry, path: &str) -> Result<(), HostError> {
    if entry.what == what {
        return Ok(());
    }
    let message = format!("{} is in the way at {path}, where {} should be", entry.what.words(), what.words());
    Err(HostError::new(message).remedy("take it away by hand, or keep it as what it is"))
}

/// Adds owner, group and permissions as found, as far as they are wanted.
fn with_ownership(machine: &Machine, clause: &Clause, entry: &Entry, mut found: Found) -> Result<Found, HostError> {
    if clause.get("owner").is_some() || clause.get("group").is_some() {
        let names = machine.accounts.names()?;
        let name = |known: Option<&String>, number: u32| known.cloned().unwrap_or_else(|| number.to_string());
        for (property, value) in
            [("owner", name(names.accounts.get(&entry.uid), entry.uid)), ("group", name(names.groups.get(&entry.gid), entry.gid))]
        {
            if clause.get(property).is_some() {
                let value = machine.no_owners().map_or(FoundValue::Value(value.into()), FoundValue::NotExaminedHere);
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
        HostError::new(format!("the {kind} {name} is not there"))
            .remedy(format!("add a clause that keeps it, or wait for the package that brings it: needs = [\"{kind}:{name}\"]"))
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
