//! Reports that could not be delivered yet, in the order of the runs. Bounded: the oldest uneventful ones go first.

use crate::error::AgentError;
use crate::state_dir::{StateDir, read_json, write_json};
use constans_core::run::Status;
use constans_wire::report::RunReport;
use std::fs;
use std::path::PathBuf;

/// So many reports are kept at the most.
pub const MOST_REPORTS: usize = 500;

/// The spool of one state dir.
pub struct Spool {
    folder: PathBuf,
}

impl Spool {
    /// Opens the spool.
    ///
    /// # Errors
    ///
    /// Returns why its folder cannot be made.
    pub fn open(state_dir: &StateDir) -> Result<Self, AgentError> {
        let folder = state_dir.path().join("spool");
        fs::create_dir_all(&folder).map_err(|error| AgentError::own_file("make the folder", &folder, &error))?;
        Ok(Self { folder })
    }

    /// Adds a report.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn add(&self, report: &RunReport) -> Result<(), AgentError> {
        write_json(&self.folder.join(format!("{:020}.json", report.sequence)), report)?;
        let waiting = self.waiting();
        if waiting.len() > MOST_REPORTS {
            let uneventful = waiting.iter().find(|path| matches!(read_json::<RunReport>(path), Ok(Some(report)) if report.status == Status::InLine));
            let _ = fs::remove_file(uneventful.unwrap_or(&waiting[0]));
        }
        Ok(())
    }

    /// Returns where the waiting reports lie, the oldest first.
    pub fn waiting(&self) -> Vec<PathBuf> {
        let entries = fs::read_dir(&self.folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let mut paths: Vec<PathBuf> = entries.filter(|path| path.extension().is_some_and(|extension| extension == "json")).collect();
        paths.sort();
        paths
    }

    /// Reads one report.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(&self, path: &std::path::Path) -> Result<Option<RunReport>, AgentError> {
        read_json(path)
    }

    /// Takes a delivered report out.
    pub fn delivered(&self, path: &std::path::Path) {
        let _ = fs::remove_file(path);
    }
}
