//! File systems: mounted now, and at boot by fstab(5).

use super::{differs, put};
use crate::error::HostError;
use crate::files::{EntryKind, Ownership};
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::native::Native;
use constans_core::compare::{Difference, Found, FoundValue};
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;
use std::path::Path;

const FSTAB: &str = "/etc/fstab";

/// One file system as fstab(5) or the kernel has it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Entry {
    pub device: String,
    path: String,
    fs: String,
    options: Vec<String>,
}

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let at_boot =
        entries(&machine.files.read_text(FSTAB)?).into_iter().find(|entry| entry.path == clause.name());
    let now = if machine.acted_on.is_private_root() { None } else { now(clause.name())? };
    let Some(entry) = at_boot.as_ref().or(now.as_ref()) else { return Ok(seen(Found::absent())) };
    let mut found = Found::present();
    for property in ["device", "fs", "options"] {
        let Some(wanted) = clause.get(property) else { continue };
        let differs_now = now.as_ref().and_then(|now| match property {
            "device" => {
                (!same_device(wanted.as_str().unwrap_or_default(), &now.device)).then(|| now.device.clone())
            }
            "fs" => (wanted.as_str() != Some(&now.fs)).then(|| now.fs.clone()),
            _ => not_in_force(&clause.list("options"), now),
        });
        let value = match property {
            "device" => json!(entry.device),
            "fs" => json!(entry.fs),
            _ => json!(entry.options),
        };
        let seen_as = if wanted.is_null() { value.clone() } else { wanted.clone() };
        // The kernel writes devices and options in its own way: what means the same counts as the wanted.
        found = found.with(
            property,
            match differs_now {
                Some(now) if !wanted.is_null() => json!(format!("{now} now")),
                _ if at_boot.is_none() => seen_as,
                _ => value,
            },
        );
    }
    let mounted = if machine.acted_on.is_private_root() {
        FoundValue::NotExaminedHere("nothing is mounted below a private root".to_owned())
    } else {
        FoundValue::Value(now.is_some().into())
    };
    Ok(seen(
        found
            .with_found("mounted", mounted)
            .with("at_boot", at_boot.is_some_and(|entry| !entry.options.contains(&"noauto".to_owned()))),
    ))
}

/// Returns the mount points of fstab.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, HostError> {
    Ok(entries(&machine.files.read_text(FSTAB)?)
        .into_iter()
        .map(|entry| entry.path)
        .filter(|path| path.starts_with('/'))
        .collect())
}

fn now(path: &str) -> Result<Option<Entry>, HostError> {
    let table = std::fs::read_to_string("/proc/self/mounts")
        .map_err(|error| HostError::io("read", "/proc/self/mounts", &error))?;
    // What was mounted last is on top.
    Ok(entries(&table).into_iter().rfind(|entry| entry.path == path))
}

pub(super) fn entries(table: &str) -> Vec<Entry> {
    table.lines().filter_map(entry).collect()
}

fn entry(line: &str) -> Option<Entry> {
    let fields: Vec<String> = line.split_whitespace().map(unescaped).collect();
    let [device, path, fs, options, ..] = &fields[..] else { return None };
    (!device.starts_with('#')).then(|| Entry {
        device: device.clone(),
        path: path.clone(),
        fs: fs.clone(),
        options: options
            .split(',')
            .filter(|option| !matches!(*option, "" | "defaults"))
            .map(str::to_owned)
            .collect(),
    })
}

/// Undoes the octal escapes of fstab(5): `\040` is a space.
pub(super) fn unescaped(field: &str) -> String {
    let known = [("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")];
    known.iter().fold(field.to_owned(), |text, (escape, plain)| text.replace(escape, plain))
}

pub(super) fn escaped(field: &str) -> String {
    field.replace('\\', "\\134").replace(' ', "\\040").replace('\t', "\\011").replace('\n', "\\012")
}

/// Returns whether a device of a document is what the kernel has mounted: by its name, or through /dev/disk.
fn same_device(wanted: &str, mounted: &str) -> bool {
    let by = |folder: &str, name: &str| format!("/dev/disk/{folder}/{}", name.trim_matches('"'));
    let path = match wanted.split_once('=') {
        Some(("UUID", name)) => by("by-uuid", name),
        Some(("LABEL", name)) => by("by-label", name),
        Some(("PARTUUID", name)) => by("by-partuuid", name),
        Some(("PARTLABEL", name)) => by("by-partlabel", name),
        _ => wanted.to_owned(),
    };
    let real = |path: &str| {
        Path::new(path).canonicalize().map_or_else(|_| path.to_owned(), |path| path.display().to_string())
    };
    wanted == mounted || (path.starts_with('/') && real(&path) == real(mounted))
}

/// Returns which wanted options do not hold now; those that only fstab knows are not asked for.
fn not_in_force(wanted: &[&str], now: &Entry) -> Option<String> {
    const FLAGS: [(&str, &str); 8] = [
        ("ro", "rw"),
        ("nosuid", "suid"),
        ("nodev", "dev"),
        ("noexec", "exec"),
        ("sync", "async"),
        ("noatime", "atime"),
        ("nodiratime", "diratime"),
        ("nosymfollow", "symfollow"),
    ];
    let has = |flag: &str| now.options.iter().any(|option| option == flag);
    let missing: Vec<&str> = wanted
        .iter()
        .copied()
        .filter(|option| {
            FLAGS
                .iter()
                .any(|(flag, opposite)| (option == flag && !has(flag)) || (option == opposite && has(flag)))
        })
        .collect();
    (!missing.is_empty()).then(|| format!("without {}", missing.join(", ")))
}

pub(super) fn correct(
    machine: &Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let path = clause.name();
    let is_gone = clause.gone != Gone::No;
    let at_boot = !is_gone && clause.flag("at_boot") != Some(false);
    write_fstab(machine, clause, at_boot, work)?;
    if machine.acted_on.is_private_root() {
        return Ok(());
    }
    let now = now(path)?;
    if is_gone || clause.flag("mounted") == Some(false) {
        return if now.is_some() { native(work, "umount", &[path]).map_err(busy) } else { Ok(()) };
    }
    match machine.files.look(path)? {
        Some(entry) => super::must_be(EntryKind::Directory, &entry, path)?,
        None => {
            return Err(HostError::new(format!("the mount point {path} is not there"))
                .remedy(format!("add a clause `directory:{path}`, and needs = [\"directory:{path}\"]")));
        }
    }
    let options = clause.list("options").join(",");
    if now.is_some() && (differs(differences, "device") || differs(differences, "fs")) {
        return Err(HostError::new(format!("another file system is mounted at {path}")).remedy(
            "unmounting it could break its users: unmount it by hand; the next run mounts the desired one",
        ));
    }
    if now.is_some() && differs(differences, "options") {
        return native(work, "mount", &["-o", &format!("remount,{options}"), path]);
    }
    if now.is_none() {
        let (fs, device) = (clause.text("fs").unwrap_or_default(), clause.text("device").unwrap_or_default());
        let options = if options.is_empty() { "defaults" } else { &options };
        return native(work, "mount", &["-t", fs, "-o", options, device, path]);
    }
    Ok(())
}

/// Puts the one line of the mount point into fstab, or removes it; all other lines stay.
fn write_fstab(
    machine: &Machine,
    clause: &Clause,
    wanted: bool,
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let text = machine.files.read_text(FSTAB)?;
    let options = clause.list("options").join(",");
    let options = if options.is_empty() { "defaults" } else { &options };
    let fields = [
        clause.text("device").unwrap_or_default(),
        clause.name(),
        clause.text("fs").unwrap_or_default(),
        options,
    ]
    .map(escaped);
    let mut new = wanted.then(|| format!("{} 0 0", fields.join(" ")));
    let mut lines: Vec<String> = Vec::new();
    for line in text.lines() {
        match entry(line) {
            Some(entry) if entry.path == clause.name() => match new.take() {
                Some(new) => lines.push(if same_entry(&entry, clause) { line.to_owned() } else { new }),
                None => continue,
            },
            _ => lines.push(line.to_owned()),
        }
    }
    lines.extend(new);
    let new: String = lines.iter().flat_map(|line| [line.as_str(), "\n"]).collect();
    if new == text {
        return Ok(());
    }
    put(machine, work, &clause.address, FSTAB, new.as_bytes(), Ownership::default())
}

fn same_entry(entry: &Entry, clause: &Clause) -> bool {
    clause.text("device") == Some(&entry.device)
        && clause.text("fs") == Some(&entry.fs)
        && clause.list("options") == entry.options
}

fn native(work: &mut Work<'_>, program: &str, arguments: &[&str]) -> Result<(), HostError> {
    let ended = Native::new(program, arguments).must()?;
    work.done.native.push(ended.step);
    Ok(())
}

fn busy(error: HostError) -> HostError {
    let is_busy = error.command.as_ref().is_some_and(|step| step.output.contains("busy"));
    if is_busy {
        error.remedy("a program uses it (its folder, or a file in it): end that first; it is not mounted at the next boot")
    } else {
        error
    }
}
