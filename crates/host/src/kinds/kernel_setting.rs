//! Kernel settings: their value now, and the one that they have after the next boot.

use super::{now_and_at_boot, put};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::{Found, FoundValue};
use constans_core::run::Seen;
use constans_core::state::Clause;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// The folders of sysctl.d(5); a file of the same name in an earlier one hides those in later ones.
const FOLDERS: [&str; 5] =
    ["/etc/sysctl.d", "/run/sysctl.d", "/usr/local/lib/sysctl.d", "/usr/lib/sysctl.d", "/lib/sysctl.d"];
/// Read after all others, so that it takes precedence.
const OWN: &str = "/etc/sysctl.d/zz-constans.conf";

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let name = dotted(clause.name());
    let at_boot = at_boot(machine, &name)?;
    if machine.acted_on.is_private_root() {
        let value = at_boot.map_or_else(
            || beside_a_desired_value(clause, "the kernel's own".to_owned()),
            |value| FoundValue::Value(value.into()),
        );
        let stand_in = Some("in a private root only the boot configuration is managed: the running kernel belongs to the host".to_owned());
        return Ok(Seen { stand_in, ..seen(Found::present().with_found("value", value)) });
    }
    let now = now(&name)?;
    let Some(now) = now else {
        return Err(NotSeen::Unsupported(format!("this kernel has no setting {name}")));
    };
    // What nobody sets at boot stays as the kernel itself begins with, which cannot be known while it is set otherwise.
    let at_boot = at_boot.unwrap_or_else(|| "not set".to_owned());
    let value = if now == at_boot {
        FoundValue::Value(now.into())
    } else {
        beside_a_desired_value(clause, now_and_at_boot(&now, &at_boot))
    };
    Ok(seen(Found::present().with_found("value", value)))
}

/// Returns the value where running kernel and boot configuration differ: a text beside a desired value; unreadable for an inspection without one.
fn beside_a_desired_value(clause: &Clause, words: String) -> FoundValue {
    if clause.text("value").is_some() {
        FoundValue::Value(words.into())
    } else {
        FoundValue::Unreadable(words)
    }
}

/// Returns the settings that some file sets at boot: all others are the kernel's own.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, HostError> {
    let mut names: Vec<String> = settings_at_boot(machine)?
        .into_iter()
        .map(|(name, _)| name)
        .filter(|name| !name.contains('*'))
        .collect();
    names.sort();
    names.dedup();
    Ok(names)
}

/// Returns the name as sysctl(8) prints it: with dots, and slashes for dots within a part.
fn dotted(name: &str) -> String {
    match name.find(['.', '/']).map(|at| name.as_bytes()[at]) {
        Some(b'/') => name.chars().map(swapped).collect(),
        _ => name.to_owned(),
    }
}

fn swapped(c: char) -> char {
    match c {
        '.' => '/',
        '/' => '.',
        other => other,
    }
}

pub(super) fn file_of(name: &str) -> PathBuf {
    PathBuf::from("/proc/sys").join(name.chars().map(swapped).collect::<String>())
}

fn now(name: &str) -> Result<Option<String>, HostError> {
    let path = file_of(name);
    match std::fs::read_to_string(&path) {
        Ok(text) => Ok(Some(one_spaced(&text))),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(HostError::io("read", &path.display().to_string(), &error)),
    }
}

fn one_spaced(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Returns what the files of sysctl.d set the value to: the last one counts.
fn at_boot(machine: &Machine, name: &str) -> Result<Option<String>, HostError> {
    Ok(settings_at_boot(machine)?.into_iter().rfind(|(key, _)| key == name).map(|(_, value)| value))
}

/// Returns the settings in the files of sysctl.d, in the order in which they are read.
fn settings_at_boot(machine: &Machine) -> Result<Vec<(String, String)>, HostError> {
    let mut files: BTreeMap<String, String> = BTreeMap::new();
    for folder in FOLDERS {
        for file in
            machine.files.list(folder)?.unwrap_or_default().into_iter().filter(|file| file.ends_with(".conf"))
        {
            files.entry(file.clone()).or_insert_with(|| format!("{folder}/{file}"));
        }
    }
    let mut entries = Vec::new();
    for path in files.values() {
        // Debian links /etc/sysctl.conf into the folder.
        let path = match machine.files.link_target(path)? {
            Some(target) if target.starts_with('/') => target,
            Some(target) => format!("{}/{target}", path.rsplit_once('/').map_or("", |(folder, _)| folder)),
            None => path.clone(),
        };
        entries.extend(machine.files.read_text(&normal(&path))?.lines().filter_map(assignment));
    }
    Ok(entries)
}

/// Takes `..` out of a path.
fn normal(path: &str) -> String {
    let mut way: Vec<&str> = Vec::new();
    for part in path.split('/').filter(|part| !matches!(*part, "" | ".")) {
        if part == ".." {
            way.pop();
        } else {
            way.push(part);
        }
    }
    format!("/{}", way.join("/"))
}

fn assignment(line: &str) -> Option<(String, String)> {
    let line = line.trim();
    if line.starts_with(['#', ';']) {
        return None;
    }
    let (name, value) = line.trim_start_matches('-').split_once('=')?;
    Some((dotted(name.trim()), one_spaced(value)))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let name = dotted(clause.name());
    let value = clause.text("value").unwrap_or_default();
    if at_boot(machine, &name)?.as_deref() != Some(value) {
        let text = machine.files.read_text(OWN)?;
        let mut lines: Vec<String> =
            text.lines().filter(|line| !line.starts_with('#')).map(str::to_owned).collect();
        lines.retain(|line| assignment(line).is_none_or(|(key, _)| key != name));
        lines.push(format!("{name} = {value}"));
        lines.sort();
        let text =
            format!("# Managed by Constans, a line each clause kernel_setting.\n{}\n", lines.join("\n"));
        machine.files.make_way(OWN)?;
        put(
            machine,
            work,
            &clause.address,
            OWN,
            text.as_bytes(),
            Ownership { permissions: Some(0o644), ..Ownership::default() },
        )?;
    }
    if machine.acted_on.is_private_root() || now(&name)?.as_deref() == Some(value) {
        return Ok(());
    }
    let path = file_of(&name);
    std::fs::write(&path, value).map_err(|error| {
        let failed = HostError::io("write", &path.display().to_string(), &error);
        match error.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
            Some(rustix::io::Errno::INVAL) => {
                failed.remedy("the kernel does not take this value; it is already in the boot configuration, so fix the document")
            }
            Some(rustix::io::Errno::ROFS | rustix::io::Errno::PERM | rustix::io::Errno::ACCESS) => {
                failed.remedy("this machine may not change its kernel, as in a container: only the boot configuration is managed")
            }
            _ => failed,
        }
    })?;
    work.note(format!("write {value} to {}", path.display()));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_with_slashes_and_with_dots_are_the_same_setting() {
        assert_eq!(dotted("net/ipv4/conf/eth0.1/forwarding"), "net.ipv4.conf.eth0/1.forwarding");
        assert_eq!(
            file_of("net.ipv4.conf.eth0/1.forwarding"),
            PathBuf::from("/proc/sys/net/ipv4/conf/eth0.1/forwarding")
        );
        assert_eq!(
            assignment(" -net.ipv4.tcp_rmem=4096\t131072  6291456 "),
            Some(("net.ipv4.tcp_rmem".into(), "4096 131072 6291456".into()))
        );
        assert_eq!(assignment("# a = b"), None);
    }
}
