//! Records of the kernel's audit that name a path (auditd(8), ausearch(8)); there are some if the node has a rule for it.

use super::lines_of;
use crate::error::HostError;
use crate::files::Files;
use constans_core::run::{RelatedKind, RelatedRecord};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};

/// Where auditd writes.
pub const LOG: &str = "/var/log/audit/audit.log";

/// Returns the lines of the log; none if there is no such log.
pub fn lines(files: &Files) -> Result<Vec<String>, HostError> {
    if files.look(LOG)?.is_none() { Ok(Vec::new()) } else { lines_of(files, LOG) }
}

/// Returns the records in lines that name a path.
pub fn of_lines(lines: &[String], path: &str) -> Vec<RelatedRecord> {
    // An event is several lines with one number: the call, and each path that it touched.
    let names_it =
        |line: &&String| line.starts_with("type=PATH ") && field(line, "name").as_deref() == Some(path);
    let meant: BTreeSet<&str> = lines.iter().filter(names_it).filter_map(|line| event_of(line)).collect();
    let mut calls: BTreeMap<&str, RelatedRecord> = BTreeMap::new();
    for line in lines.iter().filter(|line| line.starts_with("type=SYSCALL ")) {
        let Some(event) = event_of(line).filter(|event| meant.contains(event)) else { continue };
        let Some(at) = at(event) else { continue };
        let program = field(line, "exe").or_else(|| field(line, "comm")).unwrap_or_default();
        // The account that signed in, whatever it became since; enriched logs have its name too.
        let account = field(line, "AUID")
            .or_else(|| field(line, "auid"))
            .filter(|auid| auid != "4294967295" && auid != "unset");
        let text = match field(line, "success").as_deref() {
            Some("no") => format!("{program} tried to use {path}, and was refused"),
            _ => format!("{program} used {path}"),
        };
        calls.insert(
            event,
            RelatedRecord {
                at,
                until: None,
                kind: RelatedKind::Audit,
                account,
                text,
                source: LOG.to_owned(),
            },
        );
    }
    calls.into_values().collect()
}

/// The event in `msg=audit(1795600000.123:456):`, as `1795600000.123:456`.
fn event_of(line: &str) -> Option<&str> {
    Some(line.split_once("msg=audit(")?.1.split_once(')')?.0)
}

fn at(event: &str) -> Option<Timestamp> {
    let (seconds, rest) = event.split_once('.')?;
    let (millis, _) = rest.split_once(':')?;
    Timestamp::from_millisecond(
        seconds.parse::<i64>().ok()?.checked_mul(1_000)?.checked_add(millis.parse().ok()?)?,
    )
    .ok()
}

/// A field of a line: quoted, or in hexadecimal digits if it has characters that would mislead.
fn field(line: &str, name: &str) -> Option<String> {
    let value = line
        .split([' ', '\u{1d}'])
        .find_map(|part| part.split_once('=').filter(|(field, _)| *field == name).map(|(_, value)| value))?;
    if let Some(quoted) = value.strip_prefix('"') {
        return Some(quoted.trim_end_matches('"').to_owned());
    }
    let is_encoded = matches!(name, "name" | "exe" | "comm")
        && value.len() % 2 == 0
        && value.bytes().all(|byte| byte.is_ascii_hexdigit());
    if !is_encoded {
        return Some(value.to_owned());
    }
    let bytes: Option<Vec<u8>> =
        (0..value.len()).step_by(2).map(|at| u8::from_str_radix(&value[at..at + 2], 16).ok()).collect();
    Some(String::from_utf8_lossy(&bytes?).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINES: &str = "type=SYSCALL msg=audit(1795600000.123:456): arch=c000003e syscall=257 success=yes exit=3 ppid=1 pid=2 auid=1000 uid=0 comm=\"vi\" exe=\"/usr/bin/vi\" key=\"kiosk\"\u{1d}ARCH=x86_64 AUID=\"ops\" UID=\"root\"
type=CWD msg=audit(1795600000.123:456): cwd=\"/root\"
type=PATH msg=audit(1795600000.123:456): item=0 name=\"/etc/kiosk/\" inode=1
type=PATH msg=audit(1795600000.123:456): item=1 name=\"/etc/kiosk/shell.conf\" inode=2
type=SYSCALL msg=audit(1795600001.000:457): success=no auid=1001 exe=\"/usr/bin/tee\"
type=PATH msg=audit(1795600001.000:457): item=0 name=2F6574632F6B696F736B2F7368656C6C2E636F6E66
type=SYSCALL msg=audit(1795600002.000:458): success=yes auid=4294967295 exe=\"/usr/bin/constans-agent\"
type=PATH msg=audit(1795600002.000:458): item=0 name=\"/etc/kiosk/shell.conf\"
type=SYSCALL msg=audit(1795600003.000:459): success=yes auid=1000 exe=\"/usr/bin/vi\"
type=PATH msg=audit(1795600003.000:459): item=0 name=\"/etc/issue\"
type=PATH msg=audit(broken
type=SYSCALL ";

    #[test]
    fn the_calls_that_touched_a_path_are_told_with_the_account_that_signed_in() {
        let lines: Vec<String> = LINES.lines().map(str::to_owned).collect();
        let records = of_lines(&lines, "/etc/kiosk/shell.conf");
        let words: Vec<String> = records.iter().map(|record| record.words().write_dated()).collect();
        insta::assert_snapshot!(words.join("\n"), @"
        2026-11-25 09:46:40 UTC · audit ops: /usr/bin/vi used /etc/kiosk/shell.conf (/var/log/audit/audit.log)
        2026-11-25 09:46:41 UTC · audit 1001: /usr/bin/tee tried to use /etc/kiosk/shell.conf, and was refused (/var/log/audit/audit.log)
        2026-11-25 09:46:42 UTC · audit: /usr/bin/constans-agent used /etc/kiosk/shell.conf (/var/log/audit/audit.log)
        ");
    }
}
