//! Scheduled jobs: one file of cron's folder an entry.

use super::{file_name, put, take_away, text_of};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

const FOLDER: &str = "/etc/cron.d";

/// One entry as cron reads it.
pub(super) struct Entry {
    pub name: String,
    pub at: String,
    pub account: String,
    pub argv: Vec<String>,
}

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    if machine.files.look(FOLDER)?.is_none() {
        return Err(NotSeen::Unsupported(format!("there is no {FOLDER}: no cron is installed")));
    }
    let Some(text) = text_of(machine, &path(clause.name()))? else { return Ok(seen(Found::absent())) };
    let Some(entry) = read(&text) else {
        return Ok(seen(Found::half(format!("{}, which somebody changed", path(clause.name())))));
    };
    Ok(seen(
        Found::present().with("at", entry.at).with("account", entry.account).with("argv", json!(entry.argv)),
    ))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = path(clause.name());
    if clause.gone != Gone::No {
        return take_away(machine, work, &clause.address, &path);
    }
    let text = written(
        clause.name(),
        clause.text("at").unwrap_or_default(),
        clause.text("account").unwrap_or_default(),
        &clause.list("argv"),
    )?;
    // cron refuses files that others than root may write to.
    put(
        machine,
        work,
        &clause.address,
        &path,
        text.as_bytes(),
        Ownership { permissions: Some(0o644), ..Ownership::default() },
    )
}

/// Returns the entries that were written here.
pub(super) fn all(machine: &Machine) -> Result<Vec<Entry>, HostError> {
    let mut all = Vec::new();
    for file in
        machine.files.list(FOLDER)?.unwrap_or_default().iter().filter(|name| name.starts_with("constans-"))
    {
        all.extend(text_of(machine, &format!("{FOLDER}/{file}"))?.as_deref().and_then(read));
    }
    Ok(all)
}

pub(super) fn path(name: &str) -> String {
    format!("{FOLDER}/{}", file_name(name))
}

fn written(name: &str, at: &str, account: &str, argv: &[&str]) -> Result<String, HostError> {
    let line = shlex::try_join(argv.iter().copied())
        .map_err(|_| HostError::new("an argument holds a character that cron cannot pass on"))?;
    if line.contains('\n') || name.contains('\n') {
        return Err(HostError::new("an argument holds a line end, which cron cannot pass on")
            .remedy("call a script instead"));
    }
    // cron reads a plain % as a line end.
    let line = line.replace('%', "\\%");
    Ok(format!(
        "# schedule:{name}\nPATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\n{at} {account} {line}\n"
    ))
}

/// Reads an entry that was written here; none if it is none.
pub(super) fn read(text: &str) -> Option<Entry> {
    let name = text.lines().next()?.strip_prefix("# schedule:")?.to_owned();
    let mut lines =
        text.lines().filter(|line| !line.is_empty() && !line.starts_with('#') && !line.starts_with("PATH="));
    let (line, None) = (lines.next()?, lines.next()) else { return None };
    let mut rest = line;
    let mut word = || {
        let (word, after) = rest.split_once(' ')?;
        rest = after;
        Some(word.to_owned())
    };
    let at = [word()?, word()?, word()?, word()?, word()?].join(" ");
    let account = word()?;
    Some(Entry { name, at, account, argv: shlex::split(&rest.replace("\\%", "%"))? })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_is_read_as_it_was_written() {
        let argv = ["/usr/bin/kiosk-shell", "--note", "it's 100 % well", ""];
        let text = written("empty the spool", "15 3 * * 1-5", "kiosk", &argv).unwrap();
        let entry = read(&text).unwrap();
        assert_eq!(
            (entry.name.as_str(), entry.at.as_str(), entry.account.as_str()),
            ("empty the spool", "15 3 * * 1-5", "kiosk")
        );
        assert_eq!(entry.argv, argv);
        assert!(text.contains("100 \\% well"));
        assert!(read(&text.replace("15 3", "# 15 3")).is_none());
        assert!(written("x", "* * * * *", "root", &["/bin/echo", "a\nb"]).is_err());
    }
}
