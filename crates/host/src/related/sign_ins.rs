//! Who was signed in and what sudo ran, from lines of logs: as OpenSSH, Linux-PAM, su and sudo write them.

use super::log::LogLine;
use super::shown_command;
use constans_core::run::{RelatedKind, RelatedRecord};
use jiff::Timestamp;
use std::collections::HashMap;

/// Two sources that tell of one sign-in have times this many seconds apart at the most.
const SAME_WITHIN_SECS: i64 = 5;

/// The accounts and times of sign-ins that were told already.
pub type Known = Vec<(String, Timestamp)>;

/// Returns the sign-ins among records.
pub fn known(records: &[RelatedRecord]) -> Known {
    let sign_ins = records.iter().filter(|record| record.kind == RelatedKind::SignIn);
    sign_ins.filter_map(|record| Some((record.account.clone()?, record.at))).collect()
}

/// Returns the records in lines, in the order of their times. A sign-in that is known already is passed over; those that are
/// returned are known from then on.
pub fn records(lines: &[LogLine], source: &str, known: &mut Known) -> Vec<RelatedRecord> {
    let mut records: Vec<RelatedRecord> = Vec::new();
    // By program and process: the place of the sign-in that it ends.
    let mut open: HashMap<(&str, &str), usize> = HashMap::new();
    for line in lines {
        // An sshd that answers and one that serves a session are one program.
        let program = if line.program == "sshd-session" { "sshd" } else { line.program.as_str() };
        let process = (program, line.process.as_str());
        let record = |kind, account: &str, text: String| RelatedRecord {
            at: line.at,
            until: None,
            kind,
            account: Some(account.to_owned()),
            text,
            source: source.to_owned(),
        };
        if line.message.contains(": session closed for user ") {
            if let Some(place) = open.remove(&process) {
                records[place].until = Some(line.at);
            }
            continue;
        }
        let found = match program {
            "sshd" => {
                accepted(&line.message).map(|(account, text)| record(RelatedKind::SignIn, account, text))
            }
            "login" => opened(&line.message)
                .map(|(account, _)| record(RelatedKind::SignIn, account, "at the console".to_owned())),
            "su" | "su-l" => opened(&line.message)
                .and_then(|(as_account, by)| Some((by?, as_account)))
                .map(|(by, as_account)| record(RelatedKind::SignIn, by, format!("as {as_account}, by su"))),
            "sudo" => by_sudo(&line.message).map(|(account, text)| record(RelatedKind::Sudo, account, text)),
            _ => None,
        };
        let Some(found) = found else { continue };
        if found.kind == RelatedKind::SignIn {
            let account = found.account.clone().unwrap_or_default();
            let is_same = |(other, at): &(String, Timestamp)| {
                *other == account && at.duration_until(line.at).as_secs().abs() <= SAME_WITHIN_SECS
            };
            if known.iter().any(is_same) {
                continue;
            }
            known.push((account, line.at));
            open.insert(process, records.len());
        }
        records.push(found);
    }
    records
}

/// `Accepted publickey for ops from 192.0.2.7 port 50022 ssh2: ED25519 SHA256:…`
fn accepted(message: &str) -> Option<(&str, String)> {
    let mut words = message.strip_prefix("Accepted ")?.split(' ');
    let (method, "for", account, "from", address) =
        (words.next()?, words.next()?, words.next()?, words.next()?, words.next()?)
    else {
        return None;
    };
    Some((account, format!("over SSH from {address}, by {method}")))
}

/// `pam_unix(su:session): session opened for user root(uid=0) by ops(uid=1000)`: for whom, and by whom if that is named.
fn opened(message: &str) -> Option<(&str, Option<&str>)> {
    let (_, rest) = message.split_once(": session opened for user ")?;
    let (account, by) = rest.split_once(" by ").unwrap_or((rest, ""));
    let (account, by) = (bare(account), bare(by));
    (!account.is_empty()).then_some((account, (!by.is_empty()).then_some(by)))
}

/// The name in `ops(uid=1000)`.
fn bare(written: &str) -> &str {
    written.split('(').next().unwrap_or_default().trim()
}

/// `ops : TTY=pts/0 ; PWD=/home/ops ; USER=root ; COMMAND=/usr/bin/vi /etc/issue`, also refused.
fn by_sudo(message: &str) -> Option<(&str, String)> {
    let (account, rest) = message.split_once(" : ")?;
    let (before, command) = rest.split_once("COMMAND=")?;
    let is_field = |part: &&str| part.contains('=');
    let parts: Vec<&str> = before.split(" ; ").map(str::trim).filter(|part| !part.is_empty()).collect();
    let as_account = parts.iter().find_map(|part| part.strip_prefix("USER=")).unwrap_or("root");
    let refused = parts.first().filter(|part| !is_field(part)).map(|why| format!("refused ({why}), "));
    let command = shown_command(command);
    Some((account.trim(), format!("{}as {as_account}: {command}", refused.unwrap_or_default())))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(second: i64, program: &str, process: &str, message: &str) -> LogLine {
        let at = Timestamp::from_second(1_795_600_000 + second).unwrap();
        LogLine { at, program: program.into(), process: process.into(), message: message.into() }
    }

    fn told(lines: &[LogLine], known: &mut Known) -> String {
        let records = records(lines, "the journal", known);
        let words: Vec<String> = records.iter().map(|record| record.words().write_dated()).collect();
        words.join("\n")
    }

    #[test]
    fn sign_ins_with_their_ends_and_what_sudo_ran_are_told() {
        let lines = [
            line(
                0,
                "sshd",
                "812",
                "Accepted publickey for ops from 192.0.2.7 port 50022 ssh2: ED25519 SHA256:abc",
            ),
            line(
                1,
                "sshd",
                "812",
                "pam_unix(sshd:session): session opened for user ops(uid=1000) by (uid=0)",
            ),
            line(2, "sshd", "813", "Failed password for guest from 192.0.2.9 port 50023 ssh2"),
            line(
                9,
                "sudo",
                "900",
                "     ops : TTY=pts/0 ; PWD=/home/ops ; USER=root ; COMMAND=/usr/bin/tee /etc/issue --key=herring",
            ),
            line(
                10,
                "sudo",
                "901",
                "   guest : user NOT in sudoers ; TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/sh -c secret",
            ),
            line(
                11,
                "sudo",
                "900",
                "pam_unix(sudo:session): session opened for user root(uid=0) by ops(uid=1000)",
            ),
            line(
                20,
                "su",
                "950",
                "pam_unix(su:session): session opened for user root(uid=0) by ops(uid=1000)",
            ),
            line(30, "sshd", "812", "pam_unix(sshd:session): session closed for user ops"),
            line(
                40,
                "login",
                "400",
                "pam_unix(login:session): session opened for user tor(uid=1001) by LOGIN(uid=0)",
            ),
            line(41, "sshd-session", "960", "Accepted password for pia from 2001:db8::7 port 4 ssh2"),
        ];
        insta::assert_snapshot!(told(&lines, &mut Known::new()), @"
        2026-11-25 09:46:40 UTC to 2026-11-25 09:47:10 UTC · signed in ops: over SSH from 192.0.2.7, by publickey (the journal)
        2026-11-25 09:46:49 UTC · sudo ops: as root: /usr/bin/tee /etc/issue … (the journal)
        2026-11-25 09:46:50 UTC · sudo guest: refused (user NOT in sudoers), as root: /bin/sh … (the journal)
        2026-11-25 09:47:00 UTC, and not ended · signed in ops: as root, by su (the journal)
        2026-11-25 09:47:20 UTC, and not ended · signed in tor: at the console (the journal)
        2026-11-25 09:47:21 UTC, and not ended · signed in pia: over SSH from 2001:db8::7, by password (the journal)
        ");
    }

    #[test]
    fn a_sign_in_that_another_source_has_is_told_once() {
        let lines = [line(0, "sshd", "812", "Accepted publickey for ops from 192.0.2.7 port 50022 ssh2")];
        let mut known = vec![("ops".to_owned(), Timestamp::from_second(1_795_600_003).unwrap())];
        assert_eq!(told(&lines, &mut known), "");
        let mut other = vec![("ops".to_owned(), Timestamp::from_second(1_795_600_009).unwrap())];
        assert_ne!(told(&lines, &mut other), "");
        assert_eq!(told(&lines, &mut other), "", "and what was told is known");
    }

    #[test]
    fn lines_that_only_look_like_records_are_passed_over() {
        for (program, message) in [
            ("sshd", "Accepted"),
            ("sshd", "Accepted publickey for ops"),
            ("sudo", "ops : COMMAND"),
            ("su", "pam_unix(su:session): session opened for user "),
            ("cron", "pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)"),
            ("", ""),
        ] {
            assert_eq!(told(&[line(0, program, "1", message)], &mut Known::new()), "", "{message}");
        }
    }
}
