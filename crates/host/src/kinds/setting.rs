//! One key of a file that others own.

use super::line::no_file;
use super::{in_file, put, shown_unless_secret, text_of};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{InspectionContext, Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::kit::Gone;
use constans_core::part::{Format, read_setting, remove_setting, write_setting};
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(super) fn inspect(
    machine: &Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let path = clause.text("in").unwrap_or_default();
    let key = clause.list("key");
    let Some(text) = text_of(machine, path)? else {
        return Ok(seen(Found::absent().in_words(format!("no file {path}"))));
    };
    let Some(value) = read_setting(&text, format(clause)?, &key).map_err(|error| in_file(path, error))?
    else {
        return Ok(seen(Found::absent()));
    };
    let found = Found::present().with("in", path).with("key", clause.get("key").cloned().unwrap_or_default());
    // Where all values are texts, `0` in the file is what the number 0 in the document means.
    let wanted =
        clause.get("value").and_then(|wanted| Some((wanted, format(clause).ok()?.as_read(wanted).ok()?)));
    Ok(seen(match wanted {
        Some((wanted, as_read)) if as_read == value => found.with("value", wanted.clone()),
        _ => {
            let plain = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            let shown = shown_unless_secret(machine, path, &plain, look)?;
            found.with("value", if shown == plain { value } else { shown.into() })
        }
    }))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let path = clause.text("in").unwrap_or_default();
    let key = clause.list("key");
    let text = text_of(machine, path)?.ok_or_else(|| no_file(path))?;
    let new = match clause.get("value").filter(|_| clause.gone == Gone::No) {
        Some(value) => write_setting(&text, format(clause)?, &key, value),
        None => remove_setting(&text, format(clause)?, &key),
    };
    put(
        machine,
        work,
        &clause.address,
        path,
        new.map_err(|error| in_file(path, error))?.as_bytes(),
        Ownership::default(),
    )
}

fn format(clause: &Clause) -> Result<Format, HostError> {
    let word = clause.text("format").unwrap_or_default();
    Format::of_word(word)
        .ok_or_else(|| HostError::new(format!("this agent does not know the format `{word}`")))
}
