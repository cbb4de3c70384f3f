//! A package database as it was read last: as long as its files have the same metadata, it is known without reading.

use super::{Known, PackageManager};
use crate::error::HostError;
use crate::files::{Files, Stamp};
use constans_core::digest::of_contents;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::Path;

/// What was read, and what its files were then.
#[derive(Serialize, Deserialize)]
struct Reading {
    root: String,
    files: Vec<Option<Stamp>>,
    read_at: Timestamp,
    known: Known,
}

/// Returns what a database holds: as it was read last if its files did not change since, else by reading it.
///
/// # Errors
///
/// Returns why the database could not be read.
pub(super) fn read(note: &Path, files: &Files, manager: &dyn PackageManager) -> Result<Known, HostError> {
    let stamps = || manager.database_files().iter().map(|path| Ok(files.look(path)?.map(|entry| entry.stamp))).collect::<Result<Vec<_>, HostError>>();
    let (root, now, before) = (files.root().display().to_string(), Timestamp::now(), stamps()?);
    if let Some(kept) = kept(note)
        && kept.root == root
        && kept.files == before
        && before.iter().flatten().all(|stamp| stamp.vouches_for(kept.read_at, now))
    {
        return Ok(kept.known);
    }
    let known = manager.read_database()?;
    // Reading may tidy up the database itself. It need not outlast a power cut; what cannot be kept is read again.
    let reading = Reading { root, files: stamps()?, read_at: now, known };
    if let Ok(text) = serde_json::to_string(&reading) {
        let _ = fs::write(note, format!("{}\n{text}", of_contents(text.as_bytes())));
    }
    Ok(reading.known)
}

/// Returns the last reading, if it is whole.
fn kept(note: &Path) -> Option<Reading> {
    let text = fs::read_to_string(note).ok()?;
    let (sum, reading) = text.split_once('\n')?;
    (of_contents(reading.as_bytes()).as_str() == sum).then(|| serde_json::from_str(reading).ok())?
}
