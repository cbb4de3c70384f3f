//! Accounts and groups of the operating system.

use super::{differs, presence_differs};
use crate::accounts::Account;
use crate::error::HostError;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::programs::is_root;
use constans_core::compare::{Difference, Found, FoundValue};
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let name = clause.name();
    let Some(account) = machine.accounts.account(name)? else { return Ok(seen(Found::absent())) };
    let groups = machine.accounts.groups()?;
    let mut found = Found::present();
    for property in ["uid", "primary_group", "groups", "home", "shell", "comment"] {
        if clause.get(property).is_none() {
            continue;
        }
        let value = match property {
            "uid" => json!(account.uid),
            "primary_group" => {
                json!(
                    groups
                        .iter()
                        .find(|group| group.gid == account.gid)
                        .map_or_else(|| account.gid.to_string(), |group| group.name.clone())
                )
            }
            "groups" => {
                let mut names: Vec<&str> = groups
                    .iter()
                    .filter(|group| group.members.iter().any(|member| member == name))
                    .map(|group| group.name.as_str())
                    .collect();
                names.sort_unstable();
                json!(names)
            }
            "home" => json!(account.home),
            "shell" => json!(account.shell),
            _ => json!(account.comment),
        };
        found = found.with(property, value);
    }
    if clause.get("locked").is_some() || clause.get("password_hash").is_some() {
        found = with_password(machine, clause, found);
    }
    Ok(seen(found))
}

fn with_password(machine: &Machine, clause: &Clause, mut found: Found) -> Found {
    let (locked, hash) = match machine.accounts.password(clause.name()) {
        Ok(Some(password)) => (
            FoundValue::Value(json!(password.starts_with(['!', '*']))),
            FoundValue::Value(json!(password.trim_start_matches('!'))),
        ),
        Ok(None) => (FoundValue::Value(json!(false)), FoundValue::Value(json!(""))),
        Err(error) => (FoundValue::Unreadable(error.message.clone()), FoundValue::Unreadable(error.message)),
    };
    for (property, value) in [("locked", locked), ("password_hash", hash)] {
        if clause.get(property).is_some() {
            found = found.with_found(property, value);
        }
    }
    found
}

pub(super) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let name = clause.name();
    if clause.gone != Gone::No {
        // The home directory stays: what a person left there is not ours to delete.
        let step = machine.accounts.tool("userdel", &[name.to_owned()]).map_err(in_use)?;
        work.done.native.push(step);
        return Ok(());
    }
    if presence_differs(differences) {
        let step = machine.accounts.tool("useradd", &add_arguments(machine, clause))?;
        work.done.native.push(step);
    }
    let arguments = change_arguments(machine, clause, differences)?;
    if !arguments.is_empty() {
        let arguments: Vec<String> = arguments.into_iter().chain([name.to_owned()]).collect();
        let step = machine.accounts.tool("usermod", &arguments)?;
        work.done.native.push(step);
    }
    let is_new = presence_differs(differences);
    if let Some(hash) =
        clause.text("password_hash").filter(|_| is_new || differs(differences, "password_hash"))
    {
        let step = machine.accounts.set_password(name, hash)?;
        work.done.native.push(step);
    }
    if let Some(locked) = clause.flag("locked").filter(|_| is_new || differs(differences, "locked")) {
        let is_locked =
            machine.accounts.password(name)?.is_some_and(|password| password.starts_with(['!', '*']));
        if is_locked != locked {
            let step = machine
                .accounts
                .tool("usermod", &[if locked { "--lock" } else { "--unlock" }.to_owned(), name.to_owned()])?;
            work.done.native.push(step);
        }
    }
    Ok(())
}

/// An account whose programs run is not removed: ending them unasked could lose someone's work.
fn in_use(error: HostError) -> HostError {
    let is_used =
        error.command.as_ref().is_some_and(|step| step.output.contains("currently used by process"));
    if is_used {
        error.remedy("programs of this account run: end them, or stop the service that starts them, and the next run removes it")
    } else {
        error
    }
}

fn add_arguments(machine: &Machine, clause: &Clause) -> Vec<String> {
    let mut arguments = property_arguments(clause, &|_| true);
    if clause.flag("system") == Some(true) {
        arguments.push("--system".into());
    }
    let makes_home =
        clause.flag("system") != Some(true) && (is_root() || !machine.acted_on.is_private_root());
    arguments.push(if makes_home { "--create-home" } else { "--no-create-home" }.into());
    arguments.push(clause.name().to_owned());
    arguments
}

fn change_arguments(
    machine: &Machine,
    clause: &Clause,
    differences: &[Difference],
) -> Result<Vec<String>, HostError> {
    if presence_differs(differences) {
        return Ok(Vec::new());
    }
    let account: Option<Account> = machine.accounts.account(clause.name())?;
    if account.is_some_and(|account| account.uid == 0) && differs(differences, "uid") {
        return Err(HostError::new("the number of root is not changed"));
    }
    Ok(property_arguments(clause, &|property| differs(differences, property)))
}

/// Returns the arguments that useradd and usermod share, for the properties that are asked for.
fn property_arguments(clause: &Clause, includes: &dyn Fn(&str) -> bool) -> Vec<String> {
    let mut arguments = Vec::new();
    for (property, option) in [
        ("uid", "--uid"),
        ("primary_group", "--gid"),
        ("groups", "--groups"),
        ("home", "--home"),
        ("shell", "--shell"),
        ("comment", "--comment"),
    ] {
        let Some(value) = clause.get(property).filter(|_| includes(property)) else { continue };
        let text = match property {
            "groups" => clause.list("groups").join(","),
            _ => value.as_str().map_or_else(|| value.to_string(), str::to_owned),
        };
        arguments.extend([option.to_owned(), text]);
    }
    arguments
}

pub(super) fn inspect_group(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let Some(group) = machine.accounts.group(clause.name())? else { return Ok(seen(Found::absent())) };
    let mut found = Found::present();
    if clause.get("gid").is_some() {
        found = found.with("gid", group.gid);
    }
    if clause.get("members").is_some() {
        found = found.with("members", group.members);
    }
    Ok(seen(found))
}

pub(super) fn correct_group(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let name = clause.name().to_owned();
    let mut run = |program: &str, arguments: &[String]| {
        let step = machine.accounts.tool(program, arguments)?;
        work.done.native.push(step);
        Ok::<(), HostError>(())
    };
    if clause.gone != Gone::No {
        return run("groupdel", &[name]);
    }
    let is_new = presence_differs(differences);
    let mut arguments = Vec::new();
    if let Some(gid) = clause.get("gid").filter(|_| is_new || differs(differences, "gid")) {
        arguments.extend(["--gid".to_owned(), gid.to_string()]);
    }
    if clause.get("members").is_some() && (is_new || differs(differences, "members")) {
        arguments.extend(["--users".to_owned(), clause.list("members").join(",")]);
    }
    arguments.push(name);
    run(if is_new { "groupadd" } else { "groupmod" }, &arguments)
}
