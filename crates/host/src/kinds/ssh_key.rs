//! Keys that may sign in: lines of an account's authorized_keys.

use super::put;
use crate::accounts::Account;
use crate::error::HostError;
use crate::files::{EntryKind, Ownership};
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use serde_json::json;

/// One line of an authorized_keys file, as sshd(8) describes it.
pub(super) struct AuthorizedKey {
    pub options: Vec<String>,
    pub key: String,
    pub comment: String,
}

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let name = clause.text("account").unwrap_or_default();
    let Some(account) = machine.accounts.account(name)? else {
        return Ok(seen(Found::absent().in_words(format!("no account {name}"))));
    };
    let text = machine.files.read_text(&path(&account))?;
    let wanted = clause.text("key").unwrap_or_default();
    let Some(line) = text.lines().filter_map(read).find(|line| line.key == wanted) else {
        return Ok(seen(Found::absent()));
    };
    let found = Found::present().with("account", name).with("key", line.key);
    Ok(seen(if clause.get("options").is_some() { found.with("options", json!(line.options)) } else { found }))
}

pub(super) fn path(account: &Account) -> String {
    format!("{}/.ssh/authorized_keys", account.home.trim_end_matches('/'))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let name = clause.text("account").unwrap_or_default();
    let account = machine.accounts.account(name)?.ok_or_else(|| {
        HostError::new(format!("the account {name} does not exist"))
            .remedy(format!("add a clause for it, and needs = [\"account:{name}\"]"))
    })?;
    let path = path(&account);
    let whose = |permissions| {
        let ids = machine.no_owners().is_none().then_some((account.uid, account.gid));
        Ownership { uid: ids.map(|ids| ids.0), gid: ids.map(|ids| ids.1), permissions: Some(permissions) }
    };
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    match machine.files.look(folder)? {
        Some(entry) => super::must_be(EntryKind::Directory, &entry, folder)?,
        None => {
            machine.files.make_directory(folder, whose(0o700))?;
            work.note(format!("make the directory {folder}"));
        }
    }
    let text = machine.files.read_text(&path)?;
    let key = clause.text("key").unwrap_or_default();
    let is_it = |line: &str| read(line).is_some_and(|line| line.key == key);
    let options = clause.list("options");
    let before = text.lines().find(|line| is_it(line)).and_then(read);
    let new = (clause.gone == Gone::No).then(|| {
        let options = if clause.get("options").is_some() {
            options.join(",")
        } else {
            before.map(|line| line.options.join(",")).unwrap_or_default()
        };
        let separator = if options.is_empty() { "" } else { " " };
        format!("{options}{separator}{key} {}", clause.name())
    });
    let mut lines: Vec<String> = Vec::new();
    let mut new = new;
    for line in text.lines() {
        if !is_it(line) {
            lines.push(line.to_owned());
        } else if let Some(new) = new.take() {
            lines.push(new);
        }
    }
    lines.extend(new);
    let text: String = lines.iter().flat_map(|line| [line.as_str(), "\n"]).collect();
    put(machine, work, &clause.address, &path, text.as_bytes(), whose(0o600))
}

/// Reads a line; none if it is a comment or no key.
pub(super) fn read(line: &str) -> Option<AuthorizedKey> {
    let line = line.trim();
    if line.is_empty() || line.starts_with('#') {
        return None;
    }
    let is_type =
        |word: &str| word.starts_with("ssh-") || word.starts_with("ecdsa-") || word.starts_with("sk-");
    let words = split_unquoted(line, ' ');
    let (options, rest) = match words.first() {
        Some(first) if is_type(first) => (Vec::new(), &words[..]),
        Some(first) => (split_unquoted(first, ','), &words[1..]),
        None => return None,
    };
    let [kind, key, comment @ ..] = rest else { return None };
    is_type(kind).then(|| AuthorizedKey { options, key: format!("{kind} {key}"), comment: comment.join(" ") })
}

/// Splits outside of double quotes, in which a backslash keeps the quote after it.
fn split_unquoted(text: &str, separator: char) -> Vec<String> {
    let (mut parts, mut part, mut quoted, mut kept) = (Vec::new(), String::new(), false, false);
    for c in text.chars() {
        if c == separator && !quoted {
            if !part.is_empty() {
                parts.push(std::mem::take(&mut part));
            }
            continue;
        }
        quoted ^= c == '"' && !kept;
        kept = c == '\\' && !kept;
        part.push(c);
    }
    if !part.is_empty() {
        parts.push(part);
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_with_quotes_and_commas_are_taken_apart() {
        let line = read(
            "restrict,command=\"/bin/echo \\\"a, b\\\"\",from=\"192.0.2.0/24\" ssh-ed25519 AAAA ilse at hub",
        )
        .unwrap();
        assert_eq!(line.options, ["restrict", "command=\"/bin/echo \\\"a, b\\\"\"", "from=\"192.0.2.0/24\""]);
        assert_eq!((line.key.as_str(), line.comment.as_str()), ("ssh-ed25519 AAAA", "ilse at hub"));
        assert!(read("# ssh-ed25519 AAAA").is_none());
        assert!(read("what is this").is_none());
    }
}
