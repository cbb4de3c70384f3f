//! The run in progress: its progress for other processes, and a record if it is interrupted.

use crate::error::AgentError;
use crate::kept_runs::KeptRuns;
use crate::spool::Spool;
use crate::state_dir::{Begun, Lock, RunOrder, StateDir};
use constans_core::address::ClauseAddress;
use constans_core::run::{Counts, Status};
use constans_host::{ActedOn, Stalls};
use constans_wire::report::{DidNotEnd, FORM, RunReport};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use uuid::Uuid;

/// The file that is locked while a run is in progress, and that has its progress.
const RUNNING: &str = "running";
/// How often the progress of a run is written.
const WRITE_EVERY: Duration = Duration::from_millis(500);
/// How often, and after how long, it is tried again to lock that file: a look at whether it is locked locks it for a moment.
const TRIES: u32 = 20;
const PAUSE: Duration = Duration::from_millis(5);

/// How far a run is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Progress {
    /// The run.
    pub run: Uuid,
    /// How many clauses it has begun.
    pub reached: usize,
    /// How many there are.
    pub of: usize,
    /// What is done to the last of them.
    pub doing: String,
    /// That clause.
    pub address: Option<ClauseAddress>,
    /// Since when.
    pub since: Timestamp,
}

/// Tells how far a run is, until it is dropped.
pub struct ProgressWriter {
    shared: Arc<Shared>,
    state_dir: StateDir,
    thread: Option<JoinHandle<()>>,
}

struct Shared {
    shared: Mutex<SharedProgress>,
    changed: Condvar,
}

struct SharedProgress {
    progress: Progress,
    is_over: bool,
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, SharedProgress> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl ProgressWriter {
    /// Begins to write the progress of a run.
    pub fn begin(state_dir: &StateDir, begun: &Begun) -> Self {
        let progress = Progress {
            run: begun.run,
            reached: 0,
            of: begun.clauses,
            doing: "beginning".to_owned(),
            address: None,
            since: begun.began,
        };
        let shared = Arc::new(Shared {
            shared: Mutex::new(SharedProgress { progress, is_over: false }),
            changed: Condvar::new(),
        });
        let lock = state_dir.can_be_looked_at().then(|| locked(state_dir)).flatten();
        let thread = lock.and_then(|lock| {
            let shared = shared.clone();
            std::thread::Builder::new().name("progress".to_owned()).spawn(move || tell(&shared, lock)).ok()
        });
        Self { shared, state_dir: state_dir.clone(), thread }
    }

    /// Says which clause is begun, of how many.
    pub fn reached(&self, at: usize, of: usize, doing: &str, address: &ClauseAddress) {
        if self.thread.is_none() {
            return;
        }
        let progress = &mut self.shared.lock().progress;
        (progress.reached, progress.of, progress.since) = (at + 1, of, self.state_dir.now());
        doing.clone_into(&mut progress.doing);
        progress.address = Some(address.clone());
    }
}

impl ProgressWriter {
    /// Returns where stalls are reported: in the progress of the run, and to another reader.
    pub fn and_tell(&self, others: Stalls) -> Stalls {
        let shared = self.shared.clone();
        Stalls::to(move |what| {
            what.clone_into(&mut shared.lock().progress.doing);
            others.tell(what);
        })
    }
}

impl Drop for ProgressWriter {
    fn drop(&mut self) {
        self.shared.lock().is_over = true;
        self.shared.changed.notify_all();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn locked(state_dir: &StateDir) -> Option<Box<dyn Lock>> {
    (0..TRIES).find_map(|tried| {
        if tried > 0 {
            std::thread::sleep(PAUSE);
        }
        state_dir.try_lock(RUNNING).ok()?
    })
}

fn tell(shared: &Shared, mut lock: Box<dyn Lock>) {
    let mut shared_progress = shared.lock();
    while !shared_progress.is_over {
        // If it cannot be written, the progress is not shown; the run goes on.
        let _ = lock.note(&serde_json::to_vec(&shared_progress.progress).expect("it is plain data"));
        shared_progress = shared
            .changed
            .wait_timeout(shared_progress, WRITE_EVERY)
            .unwrap_or_else(PoisonError::into_inner)
            .0;
    }
}

/// Returns the run in progress, with the progress that it wrote last.
///
/// # Errors
///
/// Returns why the agent's own folder cannot be read.
pub fn under_way(state_dir: &StateDir) -> Result<Option<(Begun, Option<Progress>)>, AgentError> {
    if !state_dir.exists(RUNNING) || state_dir.try_lock(RUNNING)?.is_some() {
        return Ok(None);
    }
    Ok(state_dir.run_order()?.and_then(|order| order.begun).map(|begun| {
        let progress = read_progress(state_dir, begun.run);
        (begun, progress)
    }))
}

/// Puts a run on record that did not end, if there is one: killed, or ended with the machine. Only while nobody
/// runs.
///
/// # Errors
///
/// Returns why the agent's own folder cannot be read or written.
pub fn record_unended(state_dir: &StateDir, acted_on: &ActedOn) -> Result<Option<RunReport>, AgentError> {
    let Some(RunOrder { memory_epoch, sequence, begun: Some(begun) }) = state_dir.run_order()? else {
        return Ok(None);
    };
    let progress = read_progress(state_dir, begun.run);
    let last_told = progress.as_ref().map_or(begun.began, |progress| progress.since);
    let is_served = begun.wanted.generation.is_some();
    let report = RunReport {
        form: FORM,
        run: begun.run,
        machine: acted_on.machine.clone(),
        root: acted_on.is_private_root().then(|| acted_on.root.display().to_string()),
        agent: env!("CARGO_PKG_VERSION").to_owned(),
        wanted: begun.wanted,
        mode: begun.mode,
        started_by: begun.started_by,
        reason: begun.reason,
        sweep: begun.sweep,
        now: false,
        // What it found is not known.
        partial: true,
        part: None,
        by: None,
        began: begun.began,
        took_us: u64::try_from(last_told.duration_since(begun.began).as_micros()).unwrap_or(0),
        memory_epoch,
        sequence,
        status: Status::Failed,
        counts: Counts::default(),
        known_by_metadata: 0,
        clauses: Vec::new(),
        due: Vec::new(),
        package_preview: None,
        restart_pending: None,
        did_not_end: Some(DidNotEnd {
            reached: progress.as_ref().map_or(0, |progress| progress.reached as u64),
            of: begun.clauses as u64,
            doing: progress
                .as_ref()
                .filter(|progress| progress.address.is_some())
                .map(|progress| progress.doing.clone()),
            address: progress.and_then(|progress| progress.address),
        }),
        left_out: None,
    };
    KeptRuns::of(state_dir).add(&report)?;
    if is_served && state_dir.is_joined() {
        Spool::of(state_dir).add(&report)?;
    }
    state_dir.end_run()?;
    Ok(Some(report))
}

fn read_progress(state_dir: &StateDir, run: Uuid) -> Option<Progress> {
    let bytes = state_dir.read(RUNNING).ok()??;
    serde_json::from_slice(&bytes).ok().filter(|progress: &Progress| progress.run == run)
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::digest::of_contents;
    use constans_core::run::Mode;
    use constans_wire::report::{StartedBy, Wanted};
    use std::path::Path;

    fn begun(state_dir: &StateDir) -> Begun {
        Begun {
            run: Uuid::now_v7(),
            began: state_dir.now(),
            mode: Mode::Enforce,
            started_by: StartedBy::Interval,
            reason: None,
            sweep: None,
            partial: false,
            wanted: Wanted { digest: of_contents(b"state"), generation: None, releases: Vec::new() },
            clauses: 40,
        }
    }

    #[test]
    fn a_run_is_under_way_until_it_ends_and_on_record_if_it_did_not() {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        let acted_on = ActedOn { machine: "kiosk-auken-1".to_owned(), root: Path::new("/").to_owned() };
        assert!(under_way(&state_dir).unwrap().is_none());

        let begun = begun(&state_dir);
        state_dir.begin_run(&begun).unwrap();
        let teller = ProgressWriter::begin(&state_dir, &begun);
        teller.reached(11, 40, "correcting", &ClauseAddress::parse("package:kiosk-shell").unwrap());
        let shared_progress = (0..200).find_map(|_| {
            std::thread::sleep(Duration::from_millis(10));
            under_way(&state_dir).unwrap()?.1.filter(|progress| progress.reached == 12)
        });
        assert_eq!(shared_progress.unwrap().doing, "correcting");

        // It is cut off: nothing is noted any more, and begun stays.
        drop(teller);
        assert!(under_way(&state_dir).unwrap().is_none());
        let unended = record_unended(&state_dir, &acted_on).unwrap().unwrap().did_not_end.unwrap();
        assert_eq!(
            (unended.reached, unended.of, unended.address.unwrap().as_str()),
            (12, 40, "package:kiosk-shell")
        );
        assert!(record_unended(&state_dir, &acted_on).unwrap().is_none(), "it is on record once");
        let kept = KeptRuns::of(&state_dir).all().unwrap();
        assert_eq!((kept.len(), kept[0].run, kept[0].did_not_end.is_some()), (1, Some(begun.run), true));
    }
}
