//! Lines of systemd's journal (journalctl(1), systemd.journal-fields(7)): sign-ins and sudo.

use super::log::LogLine;
use crate::error::HostError;
use crate::native::Native;
use jiff::Timestamp;
use serde::Deserialize;
use std::time::Duration;

/// How it is called.
pub const SOURCE: &str = "the journal";
/// The program that reads it.
pub const PROGRAM: &str = "/usr/bin/journalctl";

/// The programs whose lines are read.
const WRITTEN_BY: [&str; 6] = ["sshd", "sshd-session", "login", "su", "su-l", "sudo"];
/// The most lines that are read, the last ones.
const MAX_LINES: &str = "--lines=5000";
const WITHIN: Duration = Duration::from_secs(20);
const MAX_BYTES: u64 = 16 * 1024 * 1024;

/// An entry of the journal, with the fields that are read.
#[derive(Deserialize)]
struct Entry {
    #[serde(rename = "__REALTIME_TIMESTAMP")]
    micros: String,
    #[serde(rename = "SYSLOG_IDENTIFIER")]
    program: String,
    /// Where the kernel says that the writing program stands; it may have ended already.
    #[serde(rename = "_EXE")]
    exe: Option<String>,
    #[serde(rename = "_COMM")]
    comm: Option<String>,
    #[serde(rename = "_PID")]
    pid: Option<String>,
    #[serde(rename = "MESSAGE")]
    message: String,
}

/// Returns the lines since then.
pub fn lines(since: Timestamp) -> Result<Vec<LogLine>, HostError> {
    let fixed = [
        "--no-pager",
        "--quiet",
        "--output=json",
        "--output-fields=SYSLOG_IDENTIFIER,_EXE,_COMM,_PID,MESSAGE",
        MAX_LINES,
    ];
    let of_programs = WRITTEN_BY.iter().map(|program| format!("SYSLOG_IDENTIFIER={program}"));
    let arguments = fixed
        .iter()
        .map(|argument| (*argument).to_owned())
        .chain([format!("--since=@{}", since.as_second())])
        .chain(of_programs);
    // What it prints is not reported: it holds whole command lines.
    let native =
        Native::new("journalctl", arguments).timeout(WITHIN).largest_output(MAX_BYTES).conceal_output();
    Ok(native.must()?.stdout.lines().filter_map(parse).collect())
}

/// Reads one entry; none if somebody else wrote it in the name of the program that it names, as everybody can.
fn parse(line: &str) -> Option<LogLine> {
    let entry: Entry = serde_json::from_str(line).ok()?;
    let is_its_own = match (&entry.exe, &entry.comm) {
        (Some(exe), _) => {
            let name = exe.trim_end_matches(" (deleted)").rsplit('/').next()?;
            ["/usr/", "/bin/", "/sbin/", "/lib/"].iter().any(|folder| exe.starts_with(folder))
                && !exe.starts_with("/usr/local/")
                && WRITTEN_BY.contains(&name)
        }
        (None, Some(comm)) => WRITTEN_BY.contains(&comm.as_str()),
        (None, None) => false,
    };
    let at = Timestamp::from_microsecond(entry.micros.parse().ok()?).ok()?;
    is_its_own.then(|| LogLine {
        at,
        program: entry.program,
        process: entry.pid.unwrap_or_default(),
        message: entry.message,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_another_program_wrote_in_the_name_of_sshd_is_no_record() {
        let entry = |exe: Option<&str>, comm: Option<&str>| {
            let entry = json!({ "__REALTIME_TIMESTAMP": "1795600000000000", "SYSLOG_IDENTIFIER": "sshd", "_PID": "812",
                "_EXE": exe, "_COMM": comm, "MESSAGE": "Accepted publickey for ops" });
            parse(&entry.to_string()).is_some()
        };
        assert!(entry(Some("/usr/sbin/sshd"), None));
        assert!(entry(Some("/usr/lib/openssh/sshd-session"), Some("sshd-session")));
        assert!(entry(None, Some("sshd")), "it had ended already");
        assert!(!entry(Some("/usr/bin/logger"), Some("sshd")));
        assert!(!entry(Some("/home/ops/sshd"), Some("sshd")));
        assert!(!entry(Some("/usr/local/bin/sshd"), Some("sshd")));
        assert!(!entry(None, None));
        assert_eq!(parse("{}"), None);
        let bytes = json!({ "__REALTIME_TIMESTAMP": "1", "SYSLOG_IDENTIFIER": "sudo", "_COMM": "sudo", "MESSAGE": [1, 2] });
        assert_eq!(parse(&bytes.to_string()), None, "what is not UTF-8 is passed over");
    }
}
