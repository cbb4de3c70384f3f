//! Symbolic links.

use super::must_be;
use crate::error::HostError;
use crate::files::EntryKind;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let path = clause.name();
    let Some(entry) = machine.files.look(path)? else { return Ok(seen(Found::absent())) };
    must_be(EntryKind::Link, &entry, path)?;
    Ok(seen(Found::present().with("target", machine.files.link_target(path)?.unwrap_or_default())))
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = clause.name();
    if clause.gone != Gone::No {
        machine.files.remove(path, EntryKind::Link)?;
        work.note(format!("remove the link {path}"));
        return Ok(());
    }
    let target = clause.text("target").unwrap_or_default();
    let before = machine
        .files
        .link_target(path)?
        .map(|before| format!(", which pointed at {before}"))
        .unwrap_or_default();
    machine.files.make_link(path, target)?;
    work.note(format!("make the link {path} to {target}{before}"));
    Ok(())
}
