//! All things of a kind that a node has, by name.

use super::{schedule, ssh_key};
use crate::describe::{CannotDescribe, Thing};
use crate::error::HostError;
use crate::kinds::{
    kernel_module, kernel_setting, listening, mount, package_source, packet_rule, trust_anchor,
};
use crate::machine::Machine;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Lists them.
pub(crate) fn of(machine: &mut Machine, kind: &str) -> Result<Vec<Thing>, CannotDescribe> {
    let names: Vec<String> = match kind {
        "package" => machine.packages().names()?,
        "package_source" => package_source::names(machine)?,
        "service" => machine.services.names()?,
        "schedule" => return Ok(named(schedule::all(machine)?.into_iter().map(|entry| entry.name))),
        "account" => machine.accounts.all()?.into_iter().map(|account| account.name).collect(),
        "account_group" => machine.accounts.groups()?.into_iter().map(|group| group.name).collect(),
        "ssh_key" => return Ok(ssh_keys(machine)?),
        "kernel_setting" => kernel_setting::names(machine)?,
        "kernel_module" => kernel_module::names(machine)?,
        "mount" => mount::names(machine)?,
        "trust_anchor" => trust_anchor::names(machine)?,
        "packet_rule" => packet_rule::names(machine)?,
        "listening" => listening::names(machine)?,
        "clock_sources" | "time_zone" | "host_name" => vec!["system".to_owned()],
        other => {
            return Err(CannotDescribe::NotOfThisKind(format!(
                "things of the kind {other} cannot be listed"
            )));
        }
    };
    Ok(named(names))
}

fn named(names: impl IntoIterator<Item = String>) -> Vec<Thing> {
    names.into_iter().map(Thing::named).collect()
}

/// Keys are called by their comment, and by account and number where that tells none.
fn ssh_keys(machine: &Machine) -> Result<Vec<Thing>, HostError> {
    let mut all: Vec<Thing> = Vec::new();
    for account in machine.accounts.all()? {
        // A home that cannot be looked into, or is none, has no keys that count.
        let Ok(text) = machine.files.read_text(&ssh_key::path(&account)) else { continue };
        for (at, key) in text.lines().filter_map(ssh_key::read).enumerate() {
            let known: BTreeMap<String, Value> =
                [("account".to_owned(), json!(account.name)), ("key".to_owned(), json!(key.key))].into();
            let mut name = key.comment.trim().to_owned();
            if name.is_empty() || all.iter().any(|thing| thing.name == name) {
                name = format!("{} {}", account.name, at + 1);
            }
            all.push(Thing { name, known });
        }
    }
    Ok(all)
}
