//! The memory of a desired state, stored on disk: of one baseline, or of all that the server desires.
//!
//! Memories are a line each, since every run reads and writes all of them: the address, the wanted and the found digest when
//! it was last alike, then, in nanoseconds since 1970, when that was, when a run changed it, when it took up what had changed,
//! when it was closed, when its drift was first found and since when that is as it is; of a drift also its found digest and
//! whether it was kept; between tabs, which no address has.

use crate::error::AgentError;
use crate::state_dir::{Append, StateDir};
use constans_core::address::ClauseAddress;
use constans_core::run::{DueReaction, LastInLine, Memories, Memory, OpenDrift};
use constans_host::steps;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io;
use std::path::{Path, PathBuf};

/// The word of a drift that was kept.
const KEPT: &str = "kept";

/// This many bytes a line mostly has.
const DEFAULT_LINE: usize = 192;

/// What is kept for one baseline of one kit.
pub struct Store {
    state_dir: StateDir,
    folder: PathBuf,
    log: Option<Box<dyn Append>>,
    /// The due reactions as they are known to be kept.
    kept_due: Option<Vec<DueReaction>>,
}

impl Store {
    /// Returns the memory of what is desired: of one baseline of one kit, or of all that the server wants.
    pub fn of(state_dir: &StateDir, name: &Path) -> Self {
        let folder = Path::new("memory").join(name);
        Self { state_dir: state_dir.clone(), folder, log: None, kept_due: None }
    }

    /// Returns what is remembered, with what the last run noted before it was cut off.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn memories(&self) -> Result<Memories, AgentError> {
        let kept = self.state_dir.read_text(self.memories_path())?.unwrap_or_default();
        let mut memories = Memories::with_capacity(kept.len() / DEFAULT_LINE);
        for (at, line) in kept.split_inclusive('\n').enumerate() {
            let Some(memory) = read_line(line) else {
                self.state_dir.set_aside(&self.memories_path(), &format!("line {} is invalid", at + 1))?;
                // What is remembered from now on is another memory.
                self.state_dir.forget_run_order();
                return self.memories();
            };
            memories.push(memory);
        }
        let log = self.state_dir.read_text(self.log_path())?.unwrap_or_default();
        // A line that was cut off is none and is left out.
        let noted: Vec<_> = log.split_inclusive('\n').filter_map(read_line).collect();
        if noted.is_empty() {
            return Ok(memories);
        }
        // What was noted later counts.
        Ok(memories.into_iter().chain(noted).collect::<BTreeMap<_, _>>().into_iter().collect())
    }

    /// Notes one memory at once.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be noted.
    pub fn remember(&mut self, address: &ClauseAddress, memory: &Memory) -> io::Result<()> {
        let mut line = String::new();
        if self.log.is_none() {
            self.log = Some(self.state_dir.append(self.log_path())?);
            // A line that was cut off stays a line of its own.
            line.push('\n');
        }
        write_line(&mut line, address, memory);
        if let Some(log) = &mut self.log {
            log.add(line.as_bytes())?;
        }
        steps::reached("memory noted", "");
        Ok(())
    }

    /// Keeps all memories at the end of a run.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep_memories(&mut self, memories: &Memories) -> Result<(), AgentError> {
        let mut lines = String::with_capacity(memories.len() * DEFAULT_LINE);
        memories.iter().for_each(|(address, memory)| write_line(&mut lines, address, memory));
        self.state_dir.rewrite(self.memories_path(), lines.as_bytes())?;
        steps::reached("memory kept", "");
        self.log = None;
        self.state_dir.remove(self.log_path());
        Ok(())
    }

    fn memories_path(&self) -> PathBuf {
        self.folder.join("memory")
    }

    fn log_path(&self) -> PathBuf {
        self.folder.join("memory.log")
    }

    /// Returns the due reactions.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be read.
    pub fn due(&mut self) -> Result<Vec<DueReaction>, AgentError> {
        let due: Vec<DueReaction> =
            self.state_dir.read_json(self.folder.join("due.json"))?.unwrap_or_default();
        self.kept_due = Some(due.clone());
        Ok(due)
    }

    /// Keeps the due reactions durably.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be kept.
    pub fn keep_due(&mut self, due: &[DueReaction]) -> Result<(), AgentError> {
        if self.kept_due.as_deref() == Some(due) {
            return Ok(());
        }
        self.kept_due = None;
        self.state_dir.write_json(self.folder.join("due.json"), &due)?;
        self.kept_due = Some(due.to_vec());
        steps::reached("due kept", "");
        Ok(())
    }
}

fn write_line(to: &mut String, address: &ClauseAddress, memory: &Memory) {
    let Memory { alike, drift, changed_at, taken_up_at, closed_at } = memory;
    let (wanted, found) =
        alike.as_ref().map_or(("", ""), |alike| (alike.wanted.as_str(), alike.found.as_str()));
    to.push_str(address.as_str());
    for text in [wanted, found] {
        to.push('\t');
        to.push_str(text);
    }
    let alike_at = alike.as_ref().map(|alike| alike.at);
    let drift_times = drift.as_ref().map(|drift| (drift.first_found_at, drift.found_so_at));
    let (first_found_at, found_so_at) = drift_times.unzip();
    for at in [&alike_at, changed_at, taken_up_at, closed_at, &first_found_at, &found_so_at] {
        to.push('\t');
        if let Some(nanoseconds) = at.and_then(|at| i64::try_from(at.as_nanosecond()).ok()) {
            let _ = write!(to, "{nanoseconds}");
        }
    }
    if let Some(drift) = drift {
        let _ = write!(to, "\t{}\t{}", drift.found, if drift.kept { KEPT } else { "" });
    }
    to.push('\n');
}

/// Reads a line; none if it is not whole.
fn read_line(line: &str) -> Option<(ClauseAddress, Memory)> {
    let mut fields = line.strip_suffix('\n')?.split('\t');
    let (address, wanted, found) = (fields.next()?, fields.next()?, fields.next()?);
    let mut time = || match fields.next()? {
        "" => Some(None),
        text => Timestamp::from_nanosecond(text.parse::<i64>().ok()?.into()).ok().map(Some),
    };
    let (alike_at, changed_at, taken_up_at, closed_at) = (time()?, time()?, time()?, time()?);
    let (first_found_at, found_so_at) = (time()?, time()?);
    let alike = match alike_at {
        Some(at) => Some(LastInLine { wanted: wanted.parse().ok()?, found: found.parse().ok()?, at }),
        None => None,
    };
    let drift = match first_found_at.zip(found_so_at) {
        Some((first_found_at, found_so_at)) => Some(OpenDrift {
            first_found_at,
            found_so_at,
            found: fields.next()?.parse().ok()?,
            kept: fields.next()? == KEPT,
        }),
        None => None,
    };
    let memory = Memory { alike, drift, changed_at, taken_up_at, closed_at };
    fields.next().is_none().then_some((ClauseAddress::parse(address).ok()?, memory))
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::digest::of_contents;
    use std::fs::{self, OpenOptions};
    use std::io::Write as _;
    use std::path::Path;

    fn memory(secs: i64) -> Memory {
        Memory::alike(of_contents(b"w"), of_contents(b"f"), Timestamp::from_second(secs).unwrap())
    }

    fn address(text: &str) -> ClauseAddress {
        ClauseAddress::parse(text).unwrap()
    }

    #[test]
    fn what_was_noted_before_a_run_was_cut_off_is_remembered_and_a_torn_line_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let mut store = Store::of(&StateDir::open(folder.path()).unwrap(), Path::new("served"));
        let issue = address("file:/etc/issue");
        store.keep_memories(&Memories::from([(issue.clone(), memory(1))])).unwrap();
        store.remember(&issue, &memory(2)).unwrap();
        let mut whole = String::new();
        write_line(&mut whole, &address("file:/etc/motd"), &memory(3));
        let log = folder.path().join("memory/served/memory.log");
        let before = fs::read(&log).unwrap();
        // If only its last byte is missing, everything else is there.
        for torn in 1..whole.len() - 1 {
            fs::write(&log, [&before, &whole.as_bytes()[..torn]].concat()).unwrap();
            assert_eq!(
                store.memories().unwrap(),
                Memories::from([(issue.clone(), memory(2))]),
                "cut off after {torn} bytes"
            );
            let mut next_run = Store::of(&StateDir::open(folder.path()).unwrap(), Path::new("served"));
            next_run.remember(&issue, &memory(4)).unwrap();
            assert_eq!(
                next_run.memories().unwrap(),
                Memories::from([(issue.clone(), memory(4))]),
                "noted on after {torn} bytes"
            );
        }
    }

    #[test]
    fn memories_are_read_as_they_were_written() {
        let folder = tempfile::tempdir().unwrap();
        let mut store = Store::of(&StateDir::open(folder.path()).unwrap(), Path::new("served"));
        let at = Timestamp::from_nanosecond(1_700_000_000_123_456_789).unwrap();
        let never_alike =
            Memory { alike: None, drift: None, changed_at: None, taken_up_at: Some(at), closed_at: Some(at) };
        let drift =
            OpenDrift { first_found_at: at, found: of_contents(b"other"), found_so_at: at, kept: true };
        let drifted = Memory { drift: Some(drift), changed_at: Some(at), ..memory(1) };
        let memories = Memories::from([
            (address("file:/srv/ein ort"), never_alike),
            (address("package:kiosk-shell"), drifted),
        ]);
        store.keep_memories(&memories).unwrap();
        assert_eq!(store.memories().unwrap(), memories);
    }

    #[test]
    fn what_something_else_wrote_is_set_aside_and_another_memory_begins() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        let mut store = Store::of(&state_dir, Path::new("served"));
        let epoch = state_dir.next_run().unwrap().memory_epoch;
        store.keep_memories(&Memories::from([(address("file:/etc/issue"), memory(1))])).unwrap();
        OpenOptions::new()
            .append(true)
            .open(folder.path().join("memory/served/memory"))
            .unwrap()
            .write_all(b"file:/etc/motd\n")
            .unwrap();
        assert_eq!(store.memories().unwrap(), Memories::new());
        let aside = state_dir.all_set_aside();
        assert_eq!(
            (aside.len(), aside[0].name.as_str(), aside[0].because.as_str()),
            (1, "memory/served/memory", "line 2 is invalid")
        );
        assert_ne!(state_dir.next_run().unwrap().memory_epoch, epoch);
    }
}
