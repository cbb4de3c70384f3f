//! A package database as it was read last: as long as its files have the same metadata, it is known without reading.

use super::{Known, KnownPackage, PackageManager, PackageState};
use crate::error::HostError;
use crate::files::{Files, Stamp};
use crate::note::{whole_note, write_note};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

/// What was read, but for the packages themselves, and what the files of the database were then.
#[derive(Serialize, Deserialize)]
struct Reading {
    root: String,
    files: Vec<Option<Stamp>>,
    read_at: Timestamp,
}

/// Returns what a database holds: as it was read last, and when that was, if its files did not change since, else by reading it.
///
/// # Errors
///
/// Returns why the database could not be read.
pub(super) fn read(
    note: &Path,
    files: &Files,
    manager: &dyn PackageManager,
) -> Result<(Known, Option<Timestamp>), HostError> {
    let stamps = || {
        manager
            .database_files()
            .iter()
            .map(|path| Ok(files.look(path)?.map(|entry| entry.stamp)))
            .collect::<Result<Vec<_>, HostError>>()
    };
    let (root, now, before) = (files.root().display().to_string(), Timestamp::now(), stamps()?);
    if let Some((kept, known)) = kept(note)
        && kept.root == root
        && kept.files == before
        && before.iter().flatten().all(|stamp| stamp.vouches_for(kept.read_at, now))
    {
        return Ok((known, Some(kept.read_at)));
    }
    let known = manager.read_database()?;
    // Reading may tidy up the database itself. It need not outlast a power cut; what cannot be kept is read again.
    let reading = Reading { root, files: stamps()?, read_at: now };
    if let Ok(mut text) = serde_json::to_string(&reading) {
        for (name, KnownPackage { version, state, held }) in &known {
            let _ = write!(text, "\n{name}\t{version}\t{}\t{held}", state.word());
        }
        let _ = write_note(note, &text);
    }
    Ok((known, None))
}

/// Returns the last reading, if it is whole.
fn kept(note: &Path) -> Option<(Reading, Known)> {
    let text = fs::read_to_string(note).ok()?;
    let mut lines = whole_note(&text)?.lines();
    let reading = serde_json::from_str(lines.next()?).ok()?;
    Some((reading, lines.map(package).collect::<Option<_>>()?))
}

fn package(line: &str) -> Option<(String, KnownPackage)> {
    let mut fields = line.split('\t');
    let (name, version) = (fields.next()?.to_owned(), fields.next()?.to_owned());
    Some((
        name,
        KnownPackage {
            version,
            state: PackageState::of_word(fields.next()?)?,
            held: fields.next()?.parse().ok()?,
        },
    ))
}
