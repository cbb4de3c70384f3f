//! The servers that the clock is set by: chrony's or systemd-timesyncd's, whichever is there.

use super::put;
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kind::Reaction;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

const CHRONY: &str = "/etc/chrony/chrony.conf";
const CHRONY_OWN: &str = "/etc/chrony/sources.d/constans.sources";
const TIMESYNCD: &str = "/etc/systemd/timesyncd.conf";
const TIMESYNCD_DROP_INS: &str = "/etc/systemd/timesyncd.conf.d";
/// Read after all others.
const TIMESYNCD_OWN: &str = "/etc/systemd/timesyncd.conf.d/zz-constans.conf";

enum TimeService {
    Chrony,
    Timesyncd,
}

fn keeper(machine: &Machine) -> Result<TimeService, NotSeen> {
    if machine.files.look(CHRONY)?.is_some() {
        return Ok(TimeService::Chrony);
    }
    if machine.files.look(TIMESYNCD)?.is_some() {
        return Ok(TimeService::Timesyncd);
    }
    Err(NotSeen::Unsupported("neither chrony nor systemd-timesyncd is installed".to_owned()))
}

pub(super) fn inspect(machine: &Machine, _: &Clause) -> Result<Seen, NotSeen> {
    let servers = match keeper(machine)? {
        TimeService::Chrony => {
            let mut servers = Vec::new();
            for path in chrony_files(machine)? {
                servers.extend(
                    machine.files.read_text(&path)?.lines().filter_map(chrony_source).map(str::to_owned),
                );
            }
            servers
        }
        TimeService::Timesyncd => timesyncd_servers(machine)?,
    };
    Ok(seen(Found::present().with("servers", json!(servers))))
}

/// Returns the files in which chrony looks for sources.
fn chrony_files(machine: &Machine) -> Result<Vec<String>, HostError> {
    let mut files = vec![CHRONY.to_owned()];
    for (folder, end) in [("/etc/chrony/conf.d", ".conf"), ("/etc/chrony/sources.d", ".sources")] {
        let names = machine.files.list(folder)?.unwrap_or_default();
        files.extend(
            names.into_iter().filter(|name| name.ends_with(end)).map(|name| format!("{folder}/{name}")),
        );
    }
    Ok(files)
}

pub(super) fn chrony_source(line: &str) -> Option<&str> {
    let mut words = line.split_whitespace();
    matches!(words.next()?, "server" | "pool" | "peer").then(|| words.next()).flatten()
}

fn timesyncd_servers(machine: &Machine) -> Result<Vec<String>, HostError> {
    let drop_ins = machine.files.list(TIMESYNCD_DROP_INS)?.unwrap_or_default();
    let paths = std::iter::once(TIMESYNCD.to_owned()).chain(
        drop_ins
            .into_iter()
            .filter(|name| name.ends_with(".conf"))
            .map(|name| format!("{TIMESYNCD_DROP_INS}/{name}")),
    );
    let mut servers: Vec<String> = Vec::new();
    for path in paths {
        for entry in ntp_lines(&machine.files.read_text(&path)?) {
            // An empty value clears what was set before.
            if entry.is_empty() {
                servers.clear();
            }
            servers.extend(entry.split_whitespace().map(str::to_owned));
        }
    }
    Ok(servers)
}

/// Returns the values of `NTP=` in the section `[Time]`.
pub(super) fn ntp_lines(text: &str) -> Vec<&str> {
    let mut in_section = false;
    let mut entries = Vec::new();
    for line in text.lines().map(str::trim) {
        match line.strip_prefix('[') {
            Some(heading) => in_section = heading.starts_with("Time]"),
            None if in_section => entries.extend(
                line.split_once('=').filter(|(key, _)| key.trim() == "NTP").map(|(_, value)| value.trim()),
            ),
            None => {}
        }
    }
    entries
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let servers = clause.list("servers");
    let readable = Ownership { permissions: Some(0o644), ..Ownership::default() };
    let unsupported = |not_seen| match not_seen {
        NotSeen::Unsupported(why) => HostError::new(why),
        NotSeen::Failed(error) => error,
    };
    let service = match keeper(machine).map_err(unsupported)? {
        TimeService::Chrony => {
            for path in chrony_files(machine)?.iter().filter(|path| *path != CHRONY_OWN) {
                let text = machine.files.read_text(path)?;
                if text.lines().any(|line| chrony_source(line).is_some()) {
                    let kept: String = text
                        .lines()
                        .filter(|line| chrony_source(line).is_none())
                        .flat_map(|line| [line, "\n"])
                        .collect();
                    put(machine, work, &clause.address, path, kept.as_bytes(), Ownership::default())?;
                }
            }
            let text: String = servers.iter().map(|server| format!("server {server} iburst\n")).collect();
            machine.files.make_way(CHRONY_OWN)?;
            put(machine, work, &clause.address, CHRONY_OWN, text.as_bytes(), readable)?;
            "chrony"
        }
        TimeService::Timesyncd => {
            machine.files.make_way(TIMESYNCD_OWN)?;
            // The first line clears what earlier files set.
            let text = format!("# Managed by Constans.\n[Time]\nNTP=\nNTP={}\n", servers.join(" "));
            put(machine, work, &clause.address, TIMESYNCD_OWN, text.as_bytes(), readable)?;
            "systemd-timesyncd"
        }
    };
    if machine.services.stand_in().is_none() && machine.services.inspect(service)?.is_known {
        work.done.native.push(machine.services.react(service, Reaction::Restart, false)?);
    }
    Ok(())
}
