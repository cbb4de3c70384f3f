//! The spool: reports that could not be delivered yet, in the order of the runs. Bounded: the oldest uneventful ones go
//! first. What the server will never accept is set aside, so that those behind it go on.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_core::run::Status;
use constans_wire::report::RunReport;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// This many reports are kept at the most.
pub const MAX_REPORTS: usize = 500;
/// This many of those that were refused are kept.
const MAX_REFUSED: usize = 20;

const FOLDER: &str = "spool";
const REFUSED: &str = "spool/refused";
const REFUSALS: &str = "spool/refusals.json";

/// The spool of one state dir.
pub struct Spool {
    state_dir: StateDir,
    most: usize,
}

/// The reports that the server refused.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusals {
    /// How many, ever.
    pub count: u64,
    /// The last of them.
    pub last: Option<Refusal>,
}

/// A report that the server refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// When its run began.
    pub began: Timestamp,
    /// When it was refused.
    pub at: Timestamp,
    /// Why, in the server's words.
    pub because: String,
}

impl Spool {
    /// Returns the spool of a state dir.
    pub fn of(state_dir: &StateDir) -> Self {
        Self { state_dir: state_dir.clone(), most: MAX_REPORTS }
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
        self.state_dir.write_json(Path::new(FOLDER).join(name(report)), report)
    }

    /// Returns the names of the waiting reports, the oldest first.
    pub fn waiting(&self) -> Vec<PathBuf> {
        let listed = self.state_dir.list(FOLDER).into_iter().map(|listed| listed.name);
        listed
            .filter(|name| {
                name != Path::new(REFUSALS) && name.extension().is_some_and(|extension| extension == "json")
            })
            .collect()
    }

    /// Reads one report; none if it is not there or cannot be read.
    ///
    /// # Errors
    ///
    /// Returns why the folder cannot be read.
    pub fn read(&self, waiting: &Path) -> Result<Option<RunReport>, AgentError> {
        self.state_dir.read_json(waiting)
    }

    /// Takes a delivered report out.
    pub fn delivered(&self, waiting: &Path) {
        self.state_dir.remove(waiting);
    }

    /// Sets a report aside that the server refused; the last ones are kept.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn set_aside(&self, waiting: &Path, report: &RunReport, because: &str) -> Result<(), AgentError> {
        self.state_dir.rename(waiting, &Path::new(REFUSED).join(waiting.file_name().unwrap_or_default()))?;
        let refused = self.state_dir.list(REFUSED);
        for oldest in refused.iter().take(refused.len().saturating_sub(MAX_REFUSED)) {
            self.state_dir.remove(&oldest.name);
        }
        let last = Refusal { began: report.began, at: self.state_dir.now(), because: because.to_owned() };
        self.state_dir.write_json(REFUSALS, &Refusals { count: self.refusals()?.count + 1, last: Some(last) })
    }

    /// Returns what the server refused so far.
    ///
    /// # Errors
    ///
    /// Returns why that cannot be read.
    pub fn refusals(&self) -> Result<Refusals, AgentError> {
        Ok(self.state_dir.read_json(REFUSALS)?.unwrap_or_default())
    }
}

/// Returns the name of a report's file: memory epochs rise with time (RFC 9562, version 7), and sequences within one.
fn name(report: &RunReport) -> String {
    format!("{}-{:020}.json", report.memory_epoch, report.sequence)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kept_runs::tests::report;
    use uuid::Uuid;

    fn spool(most: usize) -> (tempfile::TempDir, Spool) {
        let folder = tempfile::tempdir().unwrap();
        let spool = Spool { most, ..Spool::of(&StateDir::open(folder.path()).unwrap()) };
        (folder, spool)
    }

    fn waiting(spool: &Spool) -> Vec<u64> {
        spool.waiting().iter().map(|path| spool.read(path).unwrap().unwrap().sequence).collect()
    }

    #[test]
    fn no_more_wait_than_may_and_what_happened_is_dropped_last() {
        let (_folder, spool) = spool(3);
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
            assert_eq!(waiting(&spool), left, "after {sequence}");
        }
    }

    #[test]
    fn after_the_memory_was_lost_older_reports_stay_and_come_first() {
        let (_folder, spool) = spool(10);
        let (old, new) = (Uuid::now_v7(), Uuid::now_v7());
        for (memory_epoch, sequence) in [(old, 1), (old, 2), (new, 1)] {
            spool.add(&RunReport { memory_epoch, ..report(sequence, None) }).unwrap();
        }
        assert_eq!(waiting(&spool), [1, 2, 1]);
    }

    #[test]
    fn what_was_refused_is_set_aside_counted_and_bounded() {
        let (_folder, spool) = spool(100);
        for sequence in 1..=30 {
            spool.add(&report(sequence, None)).unwrap();
        }
        for path in spool.waiting().iter().take(25) {
            let report = spool.read(path).unwrap().unwrap();
            spool.set_aside(path, &report, "the sequence is too large").unwrap();
        }
        assert_eq!(waiting(&spool), [26, 27, 28, 29, 30]);
        assert_eq!(spool.state_dir.list(REFUSED).len(), MAX_REFUSED);
        let refusals = spool.refusals().unwrap();
        assert_eq!(
            (refusals.count, refusals.last.unwrap().because.as_str()),
            (25, "the sequence is too large")
        );
    }
}
