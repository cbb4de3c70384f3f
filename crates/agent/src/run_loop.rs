//! Carries out what a run asks for, one action after the other, and makes the report.

use crate::attic::AtticStore;
use crate::error::AgentError;
use crate::kept_runs::KeptRuns;
use crate::local::Wanted;
use crate::memory_store::Store;
use crate::state_dir::{Begun, StateDir};
use crate::under_way::ProgressWriter;
use crate::way::ConnectionJournal;
use constans_core::address::ClauseAddress;
use constans_core::digest::DigestKey;
use constans_core::run::{
    Action, ClauseResult, Correction, Failure, FailureAt, Finished, Memories, Mode, Run, RunEvent, RunInput,
    RunSettings, Selection,
};
use constans_core::state::{Clause, EffectiveState};
use constans_host::{Host, Stalls, steps};
use constans_wire::report::{FORM, RunReport, StartedBy, Wanted as WantedReport};
use constans_wire::sweep::SweptRun;
use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use uuid::Uuid;

/// What a run may do to the agent's own folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Persistence {
    /// What was learnt is kept.
    Everything,
    /// Nothing is kept: it is a look ahead of another run.
    Nothing,
}

/// Learns how a run goes on.
pub trait RunWatcher {
    /// The run begins.
    fn begins(&mut self, _begun: &Begun) {}

    /// Something is about to be done to a clause: its place, the first is 0, among how many, and what.
    fn reaches(&mut self, at: usize, of: usize, doing: &str, clause: &Clause);

    /// This came out of a clause, which is not under way any more. The same is told again when it is looked at again or reacts later.
    fn settles(&mut self, _at: usize, _result: &ClauseResult) {}
}

/// What is told before each clause: its place, among how many, and what is done to it.
impl<F: FnMut(usize, usize, &str, &Clause)> RunWatcher for F {
    fn reaches(&mut self, at: usize, of: usize, doing: &str, clause: &Clause) {
        self(at, of, doing, clause);
    }
}

/// All that one run works with.
pub struct Runner<'a> {
    /// What is acted on.
    pub host: &'a mut dyn Host,
    /// The agent's own folder.
    pub state_dir: &'a StateDir,
    /// The desired state.
    pub wanted: &'a Wanted,
    /// The key of found digests.
    pub key: &'a DigestKey,
    /// Told how it goes on.
    pub watcher: &'a mut dyn RunWatcher,
    /// Told what shows no progress and is waited for all the same.
    pub stalls: Stalls,
    /// What started the run.
    pub started_by: StartedBy,
    /// Why a person wanted it although the node only observes.
    pub reason: Option<String>,
    /// Who ran it by hand, if someone did.
    pub by: Option<String>,
    /// The sweep that it is part of.
    pub sweep: Option<SweptRun>,
    /// Set when no further clause is to be begun.
    pub stop: Arc<AtomicBool>,
    /// Whether what is changed is noted, so that it can be put back if it cuts the way to the server.
    pub guards_way: bool,
    /// How much the attic may hold, in MiB.
    pub attic_mib: u64,
}

impl Runner<'_> {
    /// Runs once.
    ///
    /// # Errors
    ///
    /// Returns why the agent's own folder could not be read or written; what is wrong on the node is in the report.
    pub fn run(
        &mut self,
        settings: RunSettings,
        part: &Selection,
        keeping: Persistence,
    ) -> Result<RunReport, AgentError> {
        let (mode, now) = (settings.mode, settings.now);
        let began = self.state_dir.now();
        let clock = Instant::now();
        let id = Uuid::now_v7();
        let wanted = WantedReport {
            digest: self.wanted.resolved.state.digest.clone(),
            generation: self.wanted.generation.clone(),
            releases: self.wanted.releases.clone(),
        };
        let begun = Begun {
            run: id,
            began,
            mode,
            started_by: self.started_by,
            reason: self.reason.clone(),
            sweep: self.sweep,
            partial: *part != Selection::Whole,
            wanted: wanted.clone(),
            clauses: self.wanted.resolved.state.clauses.len(),
        };
        let order = match keeping {
            Persistence::Everything => self.state_dir.begin_run(&begun)?,
            Persistence::Nothing => self.state_dir.next_run()?,
        };
        self.watcher.begins(&begun);
        let teller = ProgressWriter::begin(self.state_dir, &begun);
        self.host.tell_stalls(teller.and_tell(self.stalls.clone()));
        let mut store = Store::of(self.state_dir, &self.wanted.store);
        let state = &self.wanted.resolved.state;
        let touched = |clause: &&Clause| match part {
            Selection::Whole => true,
            Selection::Chosen(addresses) => addresses.contains(&clause.address),
        };
        self.host.begin_run(&state.clauses.iter().filter(touched).collect::<Vec<_>>(), &self.wanted.contents);
        let mut run = Run::new(RunInput {
            state,
            settings,
            memories: store.memories()?,
            due: store.due()?,
            part: part.clone(),
            on_demand: matches!(self.started_by, StartedBy::OperatorOnNode | StartedBy::Sweep),
            key: self.key,
        });
        if mode == Mode::Enforce {
            self.host.tidy();
        }
        let mut attic = AtticStore::open(self.state_dir, Some(id))?.holding(self.attic_mib);
        let mut way = self.guards_way.then(|| ConnectionJournal::of_run(self.state_dir, id, &state.digest));
        let driven = self.drive(&mut run, &mut store, &mut attic, keeping, way.as_mut(), &teller);
        drop(teller);
        self.host.end_run();
        let is_stopped = driven?;
        let finished = run.finish().ok_or_else(|| AgentError::new("the run did not finish"))?;
        if keeping == Persistence::Everything {
            store.keep_due(&finished.due)?;
            store.keep_memories(&finished.memories)?;
        }
        if mode == Mode::Enforce {
            self.host.tidy();
        }
        if keeping == Persistence::Everything {
            attic.bound(self.attic_mib)?;
        }
        let Finished { status, counts, results, due, part: part_of, package_preview, .. } = finished;
        let report = RunReport {
            form: FORM,
            run: id,
            machine: self.host.acted_on().machine.clone(),
            root: self
                .host
                .acted_on()
                .is_private_root()
                .then(|| self.host.acted_on().root.display().to_string()),
            agent: env!("CARGO_PKG_VERSION").to_owned(),
            wanted,
            mode,
            started_by: self.started_by,
            reason: self.reason.clone(),
            sweep: self.sweep.map(|sweep| SweptRun { is_stopped, ..sweep }),
            now,
            partial: part_of.is_some(),
            part: part_of,
            by: self.by.clone(),
            began,
            took_us: micros(clock),
            memory_epoch: order.memory_epoch,
            sequence: order.sequence,
            status,
            counts,
            known_by_metadata: known_by_metadata(&results),
            clauses: results,
            due,
            package_preview,
            // What keeps it from being found out has kept no clause from being handled.
            restart_pending: self.host.restart_pending().ok().flatten(),
            did_not_end: None,
            left_out: None,
        };
        if keeping == Persistence::Everything {
            KeptRuns::of(self.state_dir).add(&report)?;
            self.state_dir.end_run()?;
        }
        Ok(report)
    }

    /// Carries out what the run asks for until its end. Returns whether it was stopped before.
    fn drive(
        &mut self,
        run: &mut Run<'_>,
        store: &mut Store,
        attic: &mut AtticStore,
        keeping: Persistence,
        mut way: Option<&mut ConnectionJournal>,
        teller: &ProgressWriter,
    ) -> Result<bool, AgentError> {
        let mut is_stopped = false;
        let (state, contents) = (&self.wanted.resolved.state, &*self.wanted.contents);
        let total = state.clauses.len();
        let reaches = |watcher: &mut dyn RunWatcher, at: usize, doing: &str, clause: &Clause| {
            watcher.reaches(at, total, doing, clause);
            teller.reached(at, total, doing, &clause.address);
        };
        let mut actions = run.begin(self.state_dir.now());
        loop {
            for (at, result) in run.settled() {
                self.watcher.settles(at, result);
            }
            let mut event = None;
            let mut not_kept: Option<String> = None;
            for action in actions {
                let clock = Instant::now();
                event = match action {
                    Action::KeepDue(due) if keeping == Persistence::Everything => {
                        not_kept = store.keep_due(&due).err().map(|error| error.message);
                        None
                    }
                    Action::Remember(address, memory) if keeping == Persistence::Everything => {
                        // Only hastens what the end of the run keeps anyway.
                        let _ = store.remember(&address, &memory);
                        None
                    }
                    Action::KeepDue(_) | Action::Remember(..) => None,
                    Action::Inspect(at) => {
                        let clause = &state.clauses[at];
                        reaches(&mut *self.watcher, at, "looking at", clause);
                        steps::reached("inspect", clause.address.as_str());
                        let inspection = self.host.inspect(clause, contents, self.key);
                        Some(RunEvent::Inspected(inspection, micros(clock)))
                    }
                    Action::Preview(ats) => {
                        let clauses: Vec<&Clause> = ats.iter().map(|at| &state.clauses[*at]).collect();
                        reaches(&mut *self.watcher, ats[0], "looking ahead at", clauses[0]);
                        Some(RunEvent::PackagePreview(self.host.preview(&clauses), micros(clock)))
                    }
                    Action::GatherRelated(at, window) => {
                        let related = self.host.related(&state.clauses[at], window);
                        Some(RunEvent::Gathered(related, micros(clock)))
                    }
                    Action::Keep(_) if keeping == Persistence::Nothing => {
                        Some(RunEvent::Kept(Ok(Vec::new()), micros(clock)))
                    }
                    Action::Keep(at) => {
                        let kept = attic.during_grace(|attic| self.host.keep(&state.clauses[at], attic));
                        Some(RunEvent::Kept(kept, micros(clock)))
                    }
                    Action::Correct(at, differences) => {
                        let clause = &state.clauses[at];
                        reaches(&mut *self.watcher, at, "correcting", clause);
                        let noted = way.as_mut().map_or(Ok(()), |way| {
                            way.about_to_correct(self.host, clause, contents, self.key)
                        });
                        let correction =
                            match not_kept.take().or_else(|| noted.err().map(|error| error.to_string())) {
                                Some(message) => Correction {
                                    failure: Some(own_folder_failure(FailureAt::Correct, &message)),
                                    ..Correction::default()
                                },
                                None => self.host.correct(clause, &differences, contents, attic),
                            };
                        steps::reached("corrected", clause.address.as_str());
                        Some(RunEvent::Corrected(correction, micros(clock)))
                    }
                    Action::React(at, reaction) => {
                        let clause = &state.clauses[at];
                        reaches(&mut *self.watcher, at, reaction.word(), clause);
                        steps::reached("reaction begins", clause.address.as_str());
                        // That it is not noted keeps no reaction from being carried out: it is due.
                        let _ = way.as_mut().map(|way| way.about_to_react(clause, reaction));
                        let result = self.host.react(clause, reaction);
                        steps::reached("reaction ended", clause.address.as_str());
                        Some(RunEvent::Reacted(result, micros(clock)))
                    }
                    Action::Finish => return Ok(is_stopped),
                };
            }
            let event = event.ok_or_else(|| AgentError::new("the run asked for nothing"))?;
            if self.stop.load(Ordering::Relaxed) {
                is_stopped |= run.stop();
            }
            actions = run
                .on_event(event, self.state_dir.now())
                .map_err(|error| AgentError::new(error.to_string()))?;
        }
    }
}

fn own_folder_failure(at: FailureAt, message: &str) -> Failure {
    Failure {
        at,
        message: format!("nothing was changed, because the state folder cannot be written: {message}"),
        command: None,
        remedy: None,
    }
}

fn known_by_metadata(results: &[ClauseResult]) -> u64 {
    results.iter().filter(|result| result.read_at.is_some()).count() as u64
}

fn micros(clock: Instant) -> u64 {
    u64::try_from(clock.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// Returns the paths of what was wanted once and is not any more: they are left behind, and never removed as unknown.
pub fn left_behind(memories: &Memories, state: &EffectiveState) -> BTreeSet<String> {
    let wanted: HashSet<&ClauseAddress> = state
        .clauses
        .iter()
        .flat_map(|clause| std::iter::once(&clause.address).chain(&clause.also))
        .collect();
    let left = memories
        .iter()
        .map(|(address, _)| address)
        .filter(|address| address.name().starts_with('/') && !wanted.contains(address));
    left.map(|address| address.name().to_owned()).collect()
}
