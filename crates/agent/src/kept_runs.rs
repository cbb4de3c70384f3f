//! The node's own record of its runs: one line each, equal uneventful ones as one, eventful ones whole.

use crate::error::AgentError;
use crate::state_dir::Listed;
use crate::state_dir::StateDir;
use constans_core::run::{Outcome, ReactionState};
use constans_wire::report::RunReport;
use constans_wire::run::RunSummary;
use std::path::Path;

/// This many lines are kept at the least; at twice as many the older half goes.
const FEWEST_LINES: usize = 1_000;
/// This many bytes of eventful runs are kept whole at the most; the newest always stays.
const MAX_WHOLE_BYTES: u64 = 64 * 1024 * 1024;

/// The folder of the runs that are kept whole.
const WHOLE: &str = "runs/whole";
/// The row of uneventful runs that is still growing.
const ROW: &str = "runs/row.json";
/// A line for each other row and run.
const LINES: &str = "runs/lines";

/// The record of one state dir.
pub struct KeptRuns {
    state_dir: StateDir,
    most_whole: usize,
}

impl KeptRuns {
    /// Returns the record of a state dir.
    pub fn of(state_dir: &StateDir) -> Self {
        Self { state_dir: state_dir.clone(), most_whole: state_dir.most_whole_runs() }
    }

    /// Adds a run.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn add(&self, report: &RunReport) -> Result<(), AgentError> {
        let is_eventful = is_eventful(report);
        let line = RunSummary {
            run: is_eventful.then_some(report.run),
            began: report.began,
            last: report.began,
            count: 1,
            mode: report.mode,
            status: report.status,
            counts: is_eventful.then_some(report.counts),
            state: report.wanted.digest.to_string(),
            learned: self.state_dir.now(),
            partial: report.partial,
            did_not_end: report.did_not_end.clone(),
            missing: 0,
        };
        let open = self.open_row()?;
        if let Some(row) = open.as_ref().filter(|row| {
            !is_eventful
                && row.state == line.state
                && row.mode == line.mode
                && row.status == line.status
                && row.partial == line.partial
        }) {
            let longer =
                RunSummary { last: line.last, learned: line.learned, count: row.count + 1, ..row.clone() };
            return self.state_dir.rewrite_json(ROW, &longer);
        }
        if let Some(row) = open {
            self.append(&row)?;
            self.state_dir.remove(ROW);
        }
        if !is_eventful {
            return self.state_dir.rewrite_json(ROW, &line);
        }
        // By time, then by id: both rise, and a run is found by the beginning of its id.
        self.state_dir.write_json(Path::new(WHOLE).join(format!("{}.json", report.run)), report)?;
        self.append(&line)?;
        self.bound();
        Ok(())
    }

    /// Returns the lines, the newest first.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be read.
    pub fn all(&self) -> Result<Vec<RunSummary>, AgentError> {
        let mut lines = self.lines()?;
        lines.extend(self.open_row()?);
        lines.reverse();
        Ok(lines)
    }

    /// Returns a run that was kept whole; the beginning of its id is enough.
    ///
    /// # Errors
    ///
    /// Returns that there is none, or that several begin so.
    pub fn whole(&self, id: &str) -> Result<RunReport, AgentError> {
        let beginning = id.to_lowercase();
        let begins_so = |listed: &Listed| {
            listed.name.file_stem().is_some_and(|stem| stem.to_string_lossy().starts_with(&beginning))
        };
        let found: Vec<Listed> = self.kept_whole().into_iter().filter(begins_so).collect();
        let none = || {
            AgentError::new(format!("no stored run begins with {id}"))
                .hint("constans-agent runs lists them; of uneventful runs only the line is stored")
        };
        match found.as_slice() {
            [only] => self.state_dir.read_json(&only.name)?.ok_or_else(none),
            [] => Err(none()),
            several => Err(AgentError::new(format!("{} runs begin with {id}", several.len()))
                .hint("give more characters of the id")),
        }
    }

    fn open_row(&self) -> Result<Option<RunSummary>, AgentError> {
        self.state_dir.read_json(ROW)
    }

    fn lines(&self) -> Result<Vec<RunSummary>, AgentError> {
        let text = self.state_dir.read_text(LINES)?.unwrap_or_default();
        Ok(text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect())
    }

    fn append(&self, line: &RunSummary) -> Result<(), AgentError> {
        let mut text = self.state_dir.read_text(LINES)?.unwrap_or_default();
        if text.lines().count() >= 2 * FEWEST_LINES {
            let kept: Vec<&str> = text.lines().skip(FEWEST_LINES).collect();
            text = kept.join("\n") + "\n";
            self.state_dir.write(LINES, text.as_bytes())?;
        }
        // A line that was cut off stays a line of its own.
        let begin = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        let line = serde_json::to_string(line).expect("it is plain data");
        let added = self.state_dir.append(LINES).and_then(|mut lines| {
            lines.add(format!("{begin}{line}\n").as_bytes())?;
            lines.sync()
        });
        added.map_err(|error| AgentError::own_file("write", &self.state_dir.shown(LINES), &error))
    }

    /// Returns the files of the runs that are kept whole, the oldest first: ids of runs rise with time (RFC 9562, version 7).
    fn kept_whole(&self) -> Vec<Listed> {
        let is_run = |listed: &Listed| listed.name.extension().is_some_and(|extension| extension == "json");
        self.state_dir.list(WHOLE).into_iter().filter(is_run).collect()
    }

    fn bound(&self) {
        let mut left = MAX_WHOLE_BYTES;
        for (at, kept) in self.kept_whole().iter().rev().enumerate() {
            let fits = at < self.most_whole && kept.bytes <= left;
            left = if fits { left - kept.bytes } else { 0 };
            if at > 0 && !fits {
                self.state_dir.remove(&kept.name);
            }
        }
    }
}

/// Returns whether anything happened in a run, or is not as it should be.
fn is_eventful(report: &RunReport) -> bool {
    let of_clause = |outcome: Outcome| !matches!(outcome, Outcome::InLine | Outcome::Idle);
    report.reason.is_some()
        || report.did_not_end.is_some()
        || report.clauses.iter().any(|clause| {
            of_clause(clause.outcome)
                || clause.reaction.as_ref().is_some_and(|reaction| reaction.state != ReactionState::NotNeeded)
        })
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use constans_core::digest::of_contents;
    use constans_core::run::{Counts, Mode, Status};
    use constans_wire::report::{FORM, StartedBy, Wanted};
    use jiff::Timestamp;
    use uuid::Uuid;

    pub(crate) fn report(sequence: u64, reason: Option<&str>) -> RunReport {
        RunReport {
            form: FORM,
            run: Uuid::now_v7(),
            machine: "kiosk-auken-1".into(),
            root: None,
            agent: "0.1.0".into(),
            wanted: Wanted { digest: of_contents(b"state"), generation: None, releases: Vec::new() },
            mode: Mode::Enforce,
            started_by: StartedBy::Interval,
            reason: reason.map(str::to_owned),
            sweep: None,
            now: false,
            partial: false,
            part: None,
            by: None,
            began: Timestamp::from_second(1_700_000_000 + i64::try_from(sequence).unwrap()).unwrap(),
            took_us: 1,
            memory_epoch: Uuid::nil(),
            sequence,
            status: Status::InLine,
            counts: Counts::default(),
            known_by_metadata: 0,
            clauses: Vec::new(),
            due: Vec::new(),
            package_preview: None,
            restart_pending: None,
            did_not_end: None,
            left_out: None,
        }
    }

    fn record() -> (tempfile::TempDir, KeptRuns) {
        let folder = tempfile::tempdir().unwrap();
        let kept = KeptRuns::of(&StateDir::open(folder.path()).unwrap());
        (folder, kept)
    }

    #[test]
    fn uneventful_runs_are_one_line_and_others_are_kept_whole() {
        let (_folder, kept) = record();
        let eventful = report(3, Some("the shell hangs"));
        for report in [&report(1, None), &report(2, None), &eventful, &report(4, None)] {
            kept.add(report).unwrap();
        }
        let lines = kept.all().unwrap();
        assert_eq!(
            lines.iter().map(|line| (line.count, line.run)).collect::<Vec<_>>(),
            [(1, None), (1, Some(eventful.run)), (2, None)]
        );
        assert_eq!(kept.whole(&eventful.run.to_string()[..13].to_uppercase()).unwrap(), eventful);
        assert!(kept.whole("ffff").unwrap_err().message.contains("no stored run begins with ffff"));
    }

    #[test]
    fn the_record_is_bounded_and_the_newest_stays() {
        let (_folder, kept) = record();
        let kept = KeptRuns { most_whole: 4, ..kept };
        let runs: Vec<RunReport> = (0..7).map(|sequence| report(sequence, Some("again"))).collect();
        runs.iter().for_each(|report| kept.add(report).unwrap());
        assert_eq!(kept.kept_whole().len(), 4);
        assert!(
            kept.whole(&runs[2].run.to_string()).is_err() && kept.whole(&runs[3].run.to_string()).is_ok()
        );
        assert_eq!(kept.all().unwrap().len(), runs.len());
    }
}
