//! Lines of the logs that syslog writes, as Debian's and Red Hat's systems set it up: sign-ins and sudo.

use crate::error::HostError;
use crate::files::Files;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};

/// The files that there may be: of Debian and of Red Hat.
pub const FILES: [&str; 2] = ["/var/log/auth.log", "/var/log/secure"];

/// One line of a log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// When it was written.
    pub at: Timestamp,
    /// The program that wrote it.
    pub program: String,
    /// Its process, if it is named.
    pub process: String,
    /// What it says.
    pub message: String,
}

/// Returns the lines of one of these files; none if it is not there.
pub fn lines(files: &Files, path: &str) -> Result<Vec<LogLine>, HostError> {
    let now = Timestamp::now();
    Ok(super::lines_of(files, path)?
        .iter()
        .filter_map(|line| parse(line, &TimeZone::system(), now))
        .collect())
}

/// Reads `2026-11-21T23:04:05.123456+01:00 gate-auken-1 sshd[812]: …` (RFC 3339), or `Nov 21 23:04:05 gate-auken-1 sshd[812]: …`
/// (RFC 3164), whose year is the last one in which it was not later than now.
fn parse(line: &str, zone: &TimeZone, now: Timestamp) -> Option<LogLine> {
    let (at, rest) = match line.split_once(' ').and_then(|(first, rest)| Some((first.parse().ok()?, rest))) {
        Some((at, rest)) => (at, rest),
        None => (traditional(line.get(..15)?, zone, now)?, line.get(16..)?),
    };
    let (_host, rest) = rest.split_once(' ')?;
    let (program, message) = rest.split_once(": ")?;
    let (program, process) = match program.split_once('[') {
        Some((program, process)) => (program, process.trim_end_matches(']')),
        None => (program, ""),
    };
    Some(LogLine { at, program: program.into(), process: process.into(), message: message.into() })
}

fn traditional(stamp: &str, zone: &TimeZone, now: Timestamp) -> Option<Timestamp> {
    let at = |year: i16| {
        let written = DateTime::strptime("%Y %b %d %H:%M:%S", format!("{year} {stamp}")).ok()?;
        written.to_zoned(zone.clone()).ok().map(|at| at.timestamp())
    };
    let year = now.to_zoned(zone.clone()).year();
    // Clocks of two programs may be a little apart.
    let latest = now.to_zoned(zone.clone()).checked_add(1.day()).ok()?.timestamp();
    at(year).filter(|at| *at <= latest).or_else(|| at(year - 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_both_forms_are_read_and_a_year_is_never_in_the_future() {
        let now: Timestamp = "2026-01-02T08:00:00Z".parse().unwrap();
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        let read = |line: &str| {
            parse(line, &zone, now)
                .map(|line| format!("{} {} {} {}", line.at, line.program, line.process, line.message))
        };
        for (line, expected) in [
            (
                "2026-01-01T23:04:05.5+01:00 gate-auken-1 sshd[812]: Accepted publickey for ops: from",
                Some("2026-01-01T22:04:05.5Z sshd 812 Accepted publickey for ops: from"),
            ),
            ("Jan  2 08:30:00 gate-auken-1 sudo: ops : x", Some("2026-01-02T07:30:00Z sudo  ops : x")),
            ("Dec 31 23:59:59 gate-auken-1 su[9]: x", Some("2025-12-31T22:59:59Z su 9 x")),
            ("no line at all", None),
            ("", None),
            ("Jan  2 08:30:0ä gate", None),
        ] {
            assert_eq!(read(line).as_deref(), expected, "{line}");
        }
    }
}
