//! Files: whole contents, ownership and permissions.

use super::{
    differs, kept_ownership, must_be, note_replaced, presence_differs, wanted_ownership, with_ownership,
};
use crate::contents::{Contents, Opened};
use crate::error::HostError;
use crate::files::{Entry, EntryKind, MAX_FILE, PIECE, unread};
use crate::machine::{InspectionContext, Machine, NotSeen, Work, seen};
use crate::programs::NotRun;
use constans_core::compare::{Difference, Found, TextDiffRefusal, text_diff};
use constans_core::digest::{Digest, of_contents, of_reader};
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;
use std::borrow::Cow;
use std::io::{self, BufRead as _, BufReader, Read};
use std::path::Path;

/// Longer files that are not as long as they should be are not read to show how they differ.
const MAX_DIFF: u64 = 1024 * 1024;

pub(super) fn inspect(
    machine: &mut Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let path = clause.name();
    let entry = machine.files.look_beside(path)?;
    if let (Some(entry), Gone::No) = (&entry, clause.gone)
        && let Some(seen) = seen_by_digest(machine, clause, entry)?
    {
        return Ok(seen);
    }
    let is_concealed = clause.concealed.contains("content");
    let wanted = clause.text("content");
    let wanted_size = wanted.map(|name| opened(look.contents, name).map(|(_, size)| size)).transpose()?;
    let is_long = |size: u64| size.max(wanted_size.unwrap_or(0)) > MAX_DIFF;
    let Some(entry) = entry else {
        let text_diff = match wanted.filter(|_| !is_concealed) {
            Some(_) if is_long(0) => Some(Err(TextDiffRefusal::TooLarge)),
            Some(name) => {
                Some(text_diff(b"", &wanted_content(look.contents, name, path)?, is_for_all(clause)))
            }
            None => None,
        };
        return Ok(Seen { content_bytes: wanted_size, text_diff, ..seen(Found::absent()) });
    };
    if clause.gone == Gone::No {
        must_be(EntryKind::File, &entry, path)?;
    }
    let found =
        with_ownership(machine, clause, &entry, Found { size: Some(entry.size), ..Found::present() })?;
    let Some(wanted) = wanted else { return Ok(seen(found)) };
    let content_bytes = wanted_size;
    if is_long(entry.size) {
        // Too long to be shown, and never held in memory.
        let digest = digest_of_long(machine, clause, &entry, look)?;
        let is_alike = digest.as_str() == wanted;
        let text_diff = (!is_concealed && !is_alike).then_some(Err(TextDiffRefusal::TooLarge));
        return Ok(Seen { content_bytes, text_diff, ..seen(found.with("content", digest.as_str())) });
    }
    let wanted_bytes = wanted_content(look.contents, wanted, path)?;
    let contents = machine.files.read_at_most(path, most_bytes(clause))?.unwrap_or_default();
    if wanted_bytes == contents {
        return Ok(Seen { content_bytes, ..seen(found.with("content", wanted)) });
    }
    let digest = if is_concealed { look.key.digest(&contents) } else { of_contents(&contents) };
    let readable_by_all = entry.is_readable_by_all() && is_for_all(clause);
    let text_diff = (!is_concealed).then(|| text_diff(&contents, &wanted_bytes, readable_by_all));
    Ok(Seen { content_bytes, text_diff, ..seen(found.with("content", digest.as_str())) })
}

/// Returns the digest of a file that is not held in memory. The contents of a concealed name are only known by
/// comparing: where they are the same, it is that name.
fn digest_of_long(
    machine: &Machine,
    clause: &Clause,
    entry: &Entry,
    look: &InspectionContext<'_>,
) -> Result<Digest, HostError> {
    let (path, most) = (clause.name(), most_bytes(clause));
    if entry.size > most {
        return Ok(unread(entry.size));
    }
    let wanted = clause.text("content").unwrap_or_default();
    if wanted_digest(clause).is_some() {
        return Ok(machine.files.digest(path, most)?.unwrap_or_else(|| unread(entry.size)));
    }
    let failed = |error: io::Error| HostError::io("read", path, &error);
    let open = || {
        machine
            .files
            .open(path)?
            .ok_or_else(|| HostError::new(format!("{path} disappeared while it was read")))
    };
    let (kept, size) = opened(look.contents, wanted)?;
    if size == entry.size && are_same(kept, open()?.take(most)).map_err(failed)? {
        return wanted
            .parse()
            .map_err(|_| HostError::new(format!("the name {wanted} of contents is no digest")));
    }
    look.key.digest_of(open()?.take(most)).map_err(failed)
}

/// Returns whether the same can be read from both.
fn are_same(one: impl Read, other: impl Read) -> io::Result<bool> {
    let (mut one, mut other) = (BufReader::new(one), BufReader::new(other));
    loop {
        let (left, right) = (one.fill_buf()?, other.fill_buf()?);
        let both = left.len().min(right.len());
        if left[..both] != right[..both] || (both == 0 && left.len() != right.len()) {
            return Ok(false);
        }
        if both == 0 {
            return Ok(true);
        }
        one.consume(both);
        other.consume(both);
    }
}

/// Returns how many bytes of a file a clause lets be read.
pub(crate) fn most_bytes(clause: &Clause) -> u64 {
    clause.get("largest_mib").and_then(serde_json::Value::as_u64).map_or(MAX_FILE, |mib| mib * 1024 * 1024)
}

fn opened<'c>(contents: &'c dyn Contents, name: &str) -> Result<Opened<'c>, HostError> {
    contents.open(name).ok_or_else(|| HostError::new(format!("the contents {name} are missing yet")))
}

/// Returns the plain digest of the wanted contents if it is a file that is compared by it.
pub(crate) fn compared_by_digest(clause: &Clause) -> Option<&str> {
    if clause.address.kind() == "file" && clause.gone == Gone::No { wanted_digest(clause) } else { None }
}

/// Returns the plain digest of the wanted contents. Concealed ones have a keyed name, which only their bytes can be compared by.
fn wanted_digest(clause: &Clause) -> Option<&str> {
    clause.text("content").filter(|name| name.starts_with("sha256:") && !clause.concealed.contains("content"))
}

/// Returns what is seen of a file that has the wanted contents; none if they differ or have to be compared otherwise.
fn seen_by_digest(machine: &mut Machine, clause: &Clause, entry: &Entry) -> Result<Option<Seen>, NotSeen> {
    let Some(wanted) = wanted_digest(clause).filter(|_| entry.what == EntryKind::File) else {
        return Ok(None);
    };
    let (digest, read_at) = machine.seen_files.digest(
        &machine.files,
        (clause.name(), most_bytes(clause)),
        entry,
        machine.run_began,
    )?;
    if digest.as_str() != wanted {
        return Ok(None);
    }
    let found = with_ownership(machine, clause, entry, Found { size: Some(entry.size), ..Found::present() })?
        .with("content", wanted);
    Ok(Some(Seen { read_at: read_at.filter(|at| *at < machine.run_began), ..seen(found) }))
}

/// Returns whether everybody on the node may read the file as it is wanted.
fn is_for_all(clause: &Clause) -> bool {
    clause.text("permissions").is_none_or(|digits| digits.ends_with(['4', '5', '6', '7']))
}

/// Returns the wanted contents of a path. What is there is compared with them and they get there, so they must be what they
/// are called.
fn wanted_content<'c>(
    contents: &'c dyn Contents,
    name: &str,
    path: &str,
) -> Result<Cow<'c, [u8]>, HostError> {
    let bytes =
        contents.get(name).ok_or_else(|| HostError::new(format!("the contents {name} are missing yet")))?;
    if name.starts_with("sha256:") && of_contents(&bytes).as_str() != name {
        Err(not_as_named(name, path))
    } else {
        Ok(bytes)
    }
}

/// Opens the wanted contents of a path once they were read and found to be what they are called.
fn checked_content<'c>(contents: &'c dyn Contents, name: &str, path: &str) -> Result<Opened<'c>, HostError> {
    if name.starts_with("sha256:") {
        let (kept, size) = opened(contents, name)?;
        if of_reader(kept, size, &mut vec![0; PIECE], None)
            .map_err(|error| HostError::io("read the contents for", path, &error))?
            .as_str()
            != name
        {
            return Err(not_as_named(name, path));
        }
    }
    opened(contents, name)
}

fn not_as_named(name: &str, path: &str) -> HostError {
    HostError::new(format!("the contents for {path} do not match their digest, {name}"))
        .remedy("something changed the state folder of the agent: delete its folder `contents`; the next check-in downloads it again")
}

pub(super) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let path = clause.name();
    let entry = machine.files.look(path)?;
    if clause.gone != Gone::No {
        return match entry {
            Some(entry) => remove(machine, clause, &entry, work),
            None => Ok(()),
        };
    }
    let ownership = wanted_ownership(machine, clause)?;
    let Some(name) = clause.text("content") else {
        if entry.is_none() {
            return Err(HostError::new(format!("{path} does not exist, and the clause has no contents"))
                .remedy("add text, copy or render"));
        }
        machine.files.set_ownership(path, ownership)?;
        work.note(format!("set the ownership of {path}"));
        return Ok(());
    };
    if !presence_differs(differences) && !differs(differences, "content") {
        machine.files.set_ownership(path, ownership)?;
        work.note(format!("set the ownership of {path}"));
        return Ok(());
    }
    let (mut wanted, size) = checked_content(work.contents, name, path)?;
    if let Some(entry) = &entry {
        must_be(EntryKind::File, entry, path)?;
        keep(machine, clause, entry, work)?;
    }
    let ownership = kept_ownership(machine, entry.as_ref(), ownership);
    let check_with = clause.list("check_with");
    let is_checked = !check_with.is_empty();
    let accept =
        |candidate: &Path| if is_checked { accept(machine, clause, &check_with, candidate) } else { Ok(()) };
    machine.files.replace_by(path, &mut *wanted, ownership, accept)?;
    note_replaced(work, path, size, entry.as_ref());
    Ok(())
}

/// Asks the clause's own program whether new contents are good.
fn accept(
    machine: &Machine,
    clause: &Clause,
    check_with: &[&str],
    candidate: &Path,
) -> Result<(), HostError> {
    let path = clause.name();
    let name = candidate.file_name().unwrap_or_default().to_string_lossy();
    let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
    let for_program = machine.programs.path_for_program(&format!("{parent}/{name}"));
    let argv: Vec<String> = check_with.iter().map(|word| word.replace("{candidate}", &for_program)).collect();
    let argv: Vec<&str> = argv.iter().map(String::as_str).collect();
    let mut native = machine.programs.native(&argv, false, None).map_err(|not_run| match not_run {
        NotRun::Unsupported(why) => HostError::new(why),
        NotRun::Failed(error) => error,
    })?;
    if clause.concealed.contains("content") {
        native = native.conceal_output();
    }
    let ended = native.run()?;
    if ended.is_well {
        return Ok(());
    }
    let message = format!(
        "check_with refused the new contents of {path}: exit status {}",
        ended.step.exit.unwrap_or(-1)
    );
    Err(HostError::new(message).command(ended.step).remedy("the old contents are intact: fix the document"))
}

fn remove(machine: &Machine, clause: &Clause, entry: &Entry, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = clause.name();
    if entry.what == EntryKind::Directory {
        must_be(EntryKind::File, entry, path)?;
    }
    if entry.what == EntryKind::File {
        keep(machine, clause, entry, work)?;
    }
    machine.files.remove(path, entry.what)?;
    work.note(format!("remove {path}"));
    Ok(())
}

/// Puts what is there into the attic, unless the clause says not to.
fn keep(machine: &Machine, clause: &Clause, entry: &Entry, work: &mut Work<'_>) -> Result<(), HostError> {
    if clause.flag("attic") == Some(false) {
        return Ok(());
    }
    work.keep(&machine.files, clause.name(), entry, &clause.address)
}
