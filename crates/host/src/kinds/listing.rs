//! All things of a kind that a node has, by name.

use super::{schedule, ssh_key};
use crate::error::{CannotDescribe, HostError};
use crate::kinds::{
    kernel_module, kernel_setting, listening, mount, package_source, packet_rule, trust_anchor,
};
use crate::machine::Machine;
use crate::things::Thing;
use constans_core::kind::BuiltInKind;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Lists them.
pub(crate) fn of(machine: &mut Machine, kind: &str) -> Result<Vec<Thing>, CannotDescribe> {
    let cannot_be_listed =
        || Err(CannotDescribe::NotOfThisKind(format!("things of the kind {kind} cannot be listed")));
    let Some(built_in) = BuiltInKind::of(kind) else { return cannot_be_listed() };
    let names: Vec<String> = match built_in {
        BuiltInKind::Package => machine.packages().names()?,
        BuiltInKind::PackageSource => package_source::names(machine)?,
        BuiltInKind::Service => machine.services.names()?,
        BuiltInKind::Schedule => {
            return Ok(named(schedule::all(machine)?.into_iter().map(|entry| entry.name)));
        }
        BuiltInKind::Account => machine.accounts.all()?.into_iter().map(|account| account.name).collect(),
        BuiltInKind::AccountGroup => machine.accounts.groups()?.into_iter().map(|group| group.name).collect(),
        BuiltInKind::SshKey => return Ok(ssh_keys(machine)?),
        BuiltInKind::KernelSetting => kernel_setting::names(machine)?,
        BuiltInKind::KernelModule => kernel_module::names(machine)?,
        BuiltInKind::Mount => mount::names(machine)?,
        BuiltInKind::TrustAnchor => trust_anchor::names(machine)?,
        BuiltInKind::PacketRule => packet_rule::names(machine)?,
        BuiltInKind::Listening => listening::names(machine)?,
        BuiltInKind::ClockSources | BuiltInKind::TimeZone | BuiltInKind::HostName => {
            vec!["system".to_owned()]
        }
        BuiltInKind::File
        | BuiltInKind::Directory
        | BuiltInKind::Tree
        | BuiltInKind::Link
        | BuiltInKind::Line
        | BuiltInKind::Setting
        | BuiltInKind::Connects
        | BuiltInKind::Probe
        | BuiltInKind::Command => return cannot_be_listed(),
    };
    Ok(named(names))
}

fn named(names: impl IntoIterator<Item = String>) -> Vec<Thing> {
    names.into_iter().map(Thing::named).collect()
}

/// Keys are called by their comment, and by account and number if there is none.
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
