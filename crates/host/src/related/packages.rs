//! Packages that came, went or changed version: what dpkg and apt wrote down, and when rpm installed what is there.

use super::{lines_of, shown_command};
use crate::error::HostError;
use crate::files::Files;
use crate::native::Native;
use constans_core::run::{RelatedKind, RelatedRecord};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

/// What dpkg writes (dpkg(1), `--log`).
pub const DPKG_LOG: &str = "/var/log/dpkg.log";
/// What apt writes (apt.conf(5), `Dir::Log::History`).
pub const APT_HISTORY: &str = "/var/log/apt/history.log";

/// This many packages of one moment are named.
const NAMED: usize = 5;
const WITHIN: Duration = Duration::from_secs(20);

/// Returns what dpkg changed, together what it changed within a minute; none if it keeps no log.
pub fn of_dpkg(files: &Files) -> Result<Vec<RelatedRecord>, HostError> {
    Ok(dpkg_lines(&lines_of(files, DPKG_LOG)?, &TimeZone::system()))
}

/// Returns which commands of apt changed packages, and who asked for it.
pub fn of_apt(files: &Files) -> Result<Vec<RelatedRecord>, HostError> {
    Ok(apt_lines(&lines_of(files, APT_HISTORY)?, &TimeZone::system()))
}

/// Returns when the packages that are there now were installed, by rpm's own list.
pub fn of_rpm(root: &Path) -> Result<Vec<RelatedRecord>, HostError> {
    let root = root.display().to_string();
    let arguments = ["--root", &root, "-qa", "--queryformat", "%{INSTALLTIME} %{NAME} %{EVR}\\n"];
    let listed = Native::new("rpm", arguments).timeout(WITHIN).must()?;
    Ok(rpm_lines(&listed.stdout))
}

fn record(at: Timestamp, account: Option<String>, text: String, source: &str) -> RelatedRecord {
    RelatedRecord { at, until: None, kind: RelatedKind::Packages, account, text, source: source.to_owned() }
}

/// What changed at one time, the first of it by name.
fn together(changes: &[String]) -> String {
    let more = changes.len().saturating_sub(NAMED);
    let named = changes[..changes.len() - more].join(", ");
    if more > 0 { format!("{named} and {more} more") } else { named }
}

/// `2026-11-21 23:04:05 upgrade kiosk-shell:amd64 1.4 1.5`, in the node's own zone.
fn dpkg_lines(lines: &[String], zone: &TimeZone) -> Vec<RelatedRecord> {
    let changes = lines.iter().filter_map(|line| {
        let words: Vec<&str> = line.split(' ').collect();
        let [day, hour, what @ ("install" | "upgrade" | "remove" | "purge"), package, before, after] =
            words[..]
        else {
            return None;
        };
        let at = local(&format!("{day} {hour}"), zone)?;
        let versions = match (what, before, after) {
            ("install", _, after) => after.to_owned(),
            ("upgrade", before, after) => format!("{before} to {after}"),
            (_, before, _) => before.to_owned(),
        };
        let done = match what {
            "install" => "installed",
            "upgrade" => "changed",
            "remove" => "removed",
            _ => "purged",
        };
        Some((at, format!("{} {done} ({versions})", package.split(':').next().unwrap_or(package))))
    });
    let mut records: Vec<(Timestamp, Vec<String>)> = Vec::new();
    for (at, change) in changes {
        match records.last_mut() {
            Some((first, changes)) if first.duration_until(at).as_secs().abs() < 60 => changes.push(change),
            _ => records.push((at, vec![change])),
        }
    }
    records.into_iter().map(|(at, changes)| record(at, None, together(&changes), DPKG_LOG)).collect()
}

/// Entries of `Start-Date: 2026-11-21  23:04:05`, `Commandline: apt-get install kiosk-shell`, `Requested-By: ops (1000)`.
fn apt_lines(lines: &[String], zone: &TimeZone) -> Vec<RelatedRecord> {
    let mut records = Vec::new();
    let mut at = None;
    for line in lines {
        match line.split_once(": ") {
            Some(("Start-Date", written)) => {
                at = local(&written.split_whitespace().collect::<Vec<_>>().join(" "), zone);
            }
            Some(("Commandline", command)) => {
                records.extend(at.map(|at| record(at, None, shown_command(command), APT_HISTORY)));
            }
            Some(("Requested-By", account)) if at.is_some() => {
                if let Some(last) = records.last_mut().filter(|last| Some(last.at) == at) {
                    last.account = account.split(' ').next().map(str::to_owned);
                }
            }
            Some(("End-Date", _)) => at = None,
            _ => {}
        }
    }
    records
}

/// `1795600000 kiosk-shell 1.5-1`
fn rpm_lines(listed: &str) -> Vec<RelatedRecord> {
    let mut by_time: BTreeMap<i64, Vec<String>> = BTreeMap::new();
    for line in listed.lines() {
        let words: Vec<&str> = line.split(' ').collect();
        if let [at, name, version] = words[..]
            && let Ok(at) = at.parse()
        {
            by_time.entry(at).or_default().push(format!("{name} installed ({version})"));
        }
    }
    by_time
        .into_iter()
        .filter_map(|(at, mut changes)| {
            changes.sort_unstable();
            Some(record(Timestamp::from_second(at).ok()?, None, together(&changes), "rpm"))
        })
        .collect()
}

fn local(written: &str, zone: &TimeZone) -> Option<Timestamp> {
    let at = DateTime::strptime("%Y-%m-%d %H:%M:%S", written).ok()?;
    at.to_zoned(zone.clone()).ok().map(|at| at.timestamp())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(records: &[RelatedRecord]) -> String {
        records.iter().map(|record| record.words().write_dated()).collect::<Vec<_>>().join("\n")
    }

    fn lines(text: &str) -> Vec<String> {
        text.lines().map(str::to_owned).collect()
    }

    #[test]
    fn what_dpkg_did_within_a_minute_is_one_record() {
        let log = "2026-11-21 23:04:05 startup archives unpack
2026-11-21 23:04:05 install kiosk-shell:amd64 <none> 1.4
2026-11-21 23:04:06 status installed kiosk-shell:amd64 1.4
2026-11-21 23:04:50 upgrade quay-clock:all 1.0 1.1
2026-11-21 23:20:00 remove guest-tools:amd64 2.0 <none>
2026-11-21 23:30:00 purge a:amd64 1 <none>
2026-11-21 23:30:01 purge b:amd64 1 <none>
2026-11-21 23:30:02 purge c:amd64 1 <none>
2026-11-21 23:30:03 purge d:amd64 1 <none>
2026-11-21 23:30:04 purge e:amd64 1 <none>
2026-11-21 23:30:05 purge f:amd64 1 <none>
cut here";
        insta::assert_snapshot!(words(&dpkg_lines(&lines(log), &TimeZone::fixed(jiff::tz::offset(1)))), @"
        2026-11-21 22:04:05 UTC · packages: kiosk-shell installed (1.4), quay-clock changed (1.0 to 1.1) (/var/log/dpkg.log)
        2026-11-21 22:20:00 UTC · packages: guest-tools removed (2.0) (/var/log/dpkg.log)
        2026-11-21 22:30:00 UTC · packages: a purged (1), b purged (1), c purged (1), d purged (1), e purged (1) and 1 more (/var/log/dpkg.log)
        ");
    }

    #[test]
    fn a_command_of_apt_is_told_with_who_asked_for_it() {
        let log = "
Start-Date: 2026-11-21  23:04:05
Commandline: apt-get install --yes kiosk-shell
Requested-By: ops (1000)
Install: kiosk-shell:amd64 (1.4)
End-Date: 2026-11-21  23:04:07

Start-Date: 2026-11-21  23:10:00
Commandline: /usr/bin/unattended-upgrade
End-Date: 2026-11-21  23:10:09
Requested-By: nobody (1)
Commandline: apt-get";
        insta::assert_snapshot!(words(&apt_lines(&lines(log), &TimeZone::UTC)), @"
        2026-11-21 23:04:05 UTC · packages ops: apt-get install --yes kiosk-shell (/var/log/apt/history.log)
        2026-11-21 23:10:00 UTC · packages: /usr/bin/unattended-upgrade (/var/log/apt/history.log)
        ");
    }

    #[test]
    fn rpm_says_when_what_is_there_was_installed() {
        let listed = "1795600000 kiosk-shell 1.5-1\n1795600000 bash 5.2\n1795600100 quay-clock 1.1\nx y z\n";
        insta::assert_snapshot!(words(&rpm_lines(listed)), @"
        2026-11-25 09:46:40 UTC · packages: bash installed (5.2), kiosk-shell installed (1.5-1) (rpm)
        2026-11-25 09:48:20 UTC · packages: quay-clock installed (1.1) (rpm)
        ");
    }
}
