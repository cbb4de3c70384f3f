//! Reports that could not be delivered yet, in the order of the runs. Bounded: the oldest uneventful ones go first.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_core::run::Status;
use constans_wire::report::RunReport;
use std::path::{Path, PathBuf};

/// So many reports are kept at the most.
pub const MOST_REPORTS: usize = 500;

/// The spool of one state dir.
pub struct Spool {
    state_dir: StateDir,
    most: usize,
}

impl Spool {
    /// Returns the spool of a state dir.
    pub fn of(state_dir: &StateDir) -> Self {
        Self { state_dir: state_dir.clone(), most: MOST_REPORTS }
    }

    /// Adds a report. Where no more may wait, the oldest uneventful one goes first, be it this one; else the oldest.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn add(&self, report: &RunReport) -> Result<(), AgentError> {
        let waiting = self.waiting();
        if waiting.len() >= self.most {
            let is_uneventful = |path: &&PathBuf| matches!(self.read(path), Ok(Some(report)) if report.status == Status::InLine);
            match waiting.iter().find(is_uneventful) {
                None if report.status == Status::InLine => return Ok(()),
                uneventful => self.delivered(uneventful.unwrap_or(&waiting[0])),
            }
        }
        self.state_dir.write_json(Path::new("spool").join(format!("{:020}.json", report.sequence)), report)
    }

    /// Returns where the waiting reports lie, the oldest first.
    pub fn waiting(&self) -> Vec<PathBuf> {
        let listed = self.state_dir.list("spool").into_iter().map(|listed| listed.name);
        listed.filter(|name| name.extension().is_some_and(|extension| extension == "json")).collect()
    }

    /// Reads one report.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(&self, path: &Path) -> Result<Option<RunReport>, AgentError> {
        self.state_dir.read_json(path)
    }

    /// Takes a delivered report out.
    pub fn delivered(&self, path: &Path) {
        self.state_dir.remove(path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kept_runs::tests::report;

    #[test]
    fn no_more_wait_than_may_and_what_happened_is_dropped_last() {
        let folder = tempfile::tempdir().unwrap();
        let spool = Spool { most: 3, ..Spool::of(&StateDir::open(folder.path()).unwrap()) };
        let waiting = || spool.waiting().iter().map(|path| spool.read(path).unwrap().unwrap().sequence).collect::<Vec<_>>();
        let expected: [(u64, Status, &[u64]); 7] = [
            (1, Status::InLine, &[1]),
            (2, Status::DriftFound, &[1, 2]),
            (3, Status::InLine, &[1, 2, 3]),
            (4, Status::DriftFound, &[2, 3, 4]),
            (5, Status::DriftFound, &[2, 4, 5]),
            (6, Status::InLine, &[2, 4, 5]),
            (7, Status::DriftFound, &[4, 5, 7]),
        ];
        for (sequence, status, left) in expected {
            spool.add(&RunReport { status, ..report(sequence, None) }).unwrap();
            assert_eq!(waiting(), left, "after {sequence}");
        }
    }
}
