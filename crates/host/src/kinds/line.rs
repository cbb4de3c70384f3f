//! One line of a file that others own.

use super::{in_file, put, shown_unless_secret, text_of};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{InspectionContext, Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kit::Gone;
use constans_core::part::Line;
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(super) fn inspect(
    machine: &Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let path = clause.text("in").unwrap_or_default();
    let line = line_of(clause)?;
    let Some(text) = text_of(machine, path)? else {
        return Ok(seen(Found::absent().in_words(format!("no file {path}"))));
    };
    if clause.gone != Gone::No {
        return Ok(seen(if line.is_there(&text) { Found::present() } else { Found::absent() }));
    }
    Ok(seen(match line.read(&text).map_err(|error| in_file(path, error))? {
        Some(found) if Some(found) == clause.text("text") => {
            Found::present().with("in", path).with("text", found)
        }
        Some(found) => {
            Found::present().with("in", path).with("text", shown_unless_secret(machine, path, found, look)?)
        }
        None => Found::absent(),
    }))
}

fn line_of(clause: &Clause) -> Result<Line<'_>, HostError> {
    Line::new(clause.text("text"), clause.text("match"), clause.text("place"))
        .map_err(|error| in_file(clause.name(), error))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = clause.text("in").unwrap_or_default();
    let text = text_of(machine, path)?.ok_or_else(|| no_file(path))?;
    let line = line_of(clause)?;
    let new = if clause.gone == Gone::No {
        line.write(&text).map_err(|error| in_file(path, error))?
    } else {
        line.remove(&text)
    };
    put(machine, work, &clause.address, path, new.as_bytes(), Ownership::default())
}

/// A part of a file is only kept in a file that is there: who owns the file decides what else is in it.
pub(super) fn no_file(path: &str) -> HostError {
    HostError::new(format!("the file {path} does not exist"))
        .remedy("name what brings it in `needs`, or keep the whole file with a `file` clause")
}
