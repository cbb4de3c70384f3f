//! The drill of this node: clauses that are broken on purpose, and how they are undone if nobody puts them right.

use crate::attic::AtticStore;
use crate::error::AgentError;
use crate::local::Wanted;
use crate::state_dir::StateDir;
use constans_core::address::ClauseAddress;
use constans_core::compare::differences;
use constans_core::digest::DigestKey;
use constans_core::run::{
    Broken, Drilled, Inspection, Outcome, RunSettings, Seen, Verdict, broken, kept_from_drill,
};
use constans_core::state::Clause;
use constans_host::{Contents, Host};
use constans_wire::drill::{DrillOffer, DrillReport, DrilledClause};
use constans_wire::report::RunReport;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The drill that goes on, or whose end the server does not know.
const DRILL: &str = "drill.json";
/// Nothing is left broken for longer, whatever the server says.
const LONGEST: SignedDuration = SignedDuration::from_hours(24);

/// A drill of this node.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Drill {
    /// Its number.
    pub no: i64,
    /// When what nobody has put right is undone.
    pub undo_at: Timestamp,
    /// How it goes on.
    pub report: DrillReport,
    /// Whether the server knows that.
    pub is_told: bool,
    /// What was broken, as it is desired.
    wanted: Vec<Clause>,
}

impl Drill {
    /// Returns the drill of this node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json(DRILL)
    }

    /// Keeps it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json(DRILL, self)
    }

    /// Forgets it: it is over, and the server knows.
    pub fn forget(state_dir: &StateDir) {
        state_dir.remove(DRILL);
    }

    /// Breaks what is asked for, as far as nothing speaks against it. What is kept of it before says how it is undone. Only while nobody
    /// runs.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn begin(
        offer: &DrillOffer,
        wanted: &Wanted,
        settings: &RunSettings,
        state_dir: &StateDir,
        host: &mut dyn Host,
    ) -> Result<Self, AgentError> {
        let now = state_dir.now();
        let for_secs = SignedDuration::from_secs(i64::try_from(offer.for_secs).unwrap_or(i64::MAX));
        let mut drill = Self {
            no: offer.no,
            undo_at: now + for_secs.clamp(SignedDuration::ZERO, LONGEST),
            report: DrillReport { refused: kept_from_drill(settings, now), clauses: Vec::new() },
            is_told: false,
            wanted: Vec::new(),
        };
        if drill.report.refused.is_some() {
            drill.keep(state_dir)?;
            return Ok(drill);
        }
        let key = state_dir.key()?;
        let mut to_break = Vec::new();
        for address in &offer.clauses {
            let mut told = DrilledClause::of(address.clone());
            match may_break(address, wanted, settings, now, host, &key) {
                Ok((clause, broken, seen)) => {
                    told.words = Some(broken.words.clone());
                    // If this agent is killed from here on, it is looked at again.
                    told.broken_at = Some(now);
                    drill.wanted.push(clause);
                    to_break.push((drill.report.clauses.len(), broken, seen));
                }
                Err(why) => told.failed = Some(why),
            }
            drill.report.clauses.push(told);
        }
        drill.keep(state_dir)?;
        let clauses: Vec<&Clause> = to_break.iter().map(|(_, broken, _)| &broken.clause).collect();
        host.begin_run(&clauses, &wanted.contents);
        for (at, broken, seen) in &to_break {
            let failed = make_so(&broken.clause, seen, &*wanted.contents, state_dir, host)?;
            if failed.is_some() {
                let told = &mut drill.report.clauses[*at];
                (told.failed, told.broken_at) = (failed, None);
            }
        }
        host.end_run();
        drill.keep(state_dir)?;
        Ok(drill)
    }

    /// Notes what a run found and did. Returns whether that is anything new.
    pub fn note(&mut self, report: &RunReport, now: Timestamp) -> bool {
        let mut is_new = false;
        for told in self.report.clauses.iter_mut().filter(|told| told.is_open()) {
            let Some(result) = report.clauses.iter().find(|result| result.address == told.address) else {
                continue;
            };
            let before = told.clone();
            if result.verdict == Some(Verdict::Different) {
                // The run began to look after it was broken, and said so before it put it right.
                told.noticed_at.get_or_insert(report.began.max(told.broken_at.unwrap_or(report.began)));
            }
            if result.verdict == Some(Verdict::Alike) || result.outcome == Outcome::Corrected {
                told.put_right_at = Some(now);
            }
            is_new |= *told != before;
        }
        self.is_told &= !is_new;
        is_new
    }

    /// Undoes what is still broken as it was. Only while nobody runs.
    ///
    /// # Errors
    ///
    /// Returns why the folder of the agent cannot be read.
    pub fn undo(
        &mut self,
        contents: &Arc<dyn Contents>,
        state_dir: &StateDir,
        host: &mut dyn Host,
    ) -> Result<(), AgentError> {
        let key = state_dir.key()?;
        host.forget_readings();
        host.begin_run(&self.wanted.iter().collect::<Vec<_>>(), contents);
        for told in self.report.clauses.iter_mut().filter(|told| told.is_open()) {
            let wanted = self.wanted.iter().find(|clause| clause.address == told.address);
            let undone = wanted.map_or_else(
                || Ok(Undone::Failed("it is not known how it was".to_owned())),
                |wanted| undo(wanted, &key, &**contents, state_dir, host),
            );
            let now = Some(state_dir.now());
            match undone? {
                Undone::Now => told.undone_at = now,
                Undone::Before => told.put_right_at = now,
                Undone::Failed(why) => told.failed = Some(why),
            }
        }
        host.end_run();
        self.is_told = false;
        self.keep(state_dir)
    }
}

/// Returns what of the drill of this node is broken, for runs.
///
/// # Errors
///
/// Returns why it cannot be read.
pub fn drilled(state_dir: &StateDir) -> Result<Option<Drilled>, AgentError> {
    let Some(drill) = Drill::read(state_dir)? else { return Ok(None) };
    let open = drill.report.clauses.iter().filter(|told| told.is_open());
    let clauses = open.map(|told| told.address.clone()).collect();
    Ok(Some(Drilled { no: drill.no, clauses }).filter(|drilled| !drilled.clauses.is_empty()))
}

/// Returns the clause, how it is broken and what is there; why it is not broken otherwise.
fn may_break(
    address: &ClauseAddress,
    wanted: &Wanted,
    settings: &RunSettings,
    now: Timestamp,
    host: &mut dyn Host,
    key: &DigestKey,
) -> Result<(Clause, Broken, Seen), String> {
    let clause = wanted.resolved.state.clauses.iter().find(|clause| clause.address == *address);
    let clause = clause.ok_or("it is not desired of this node")?;
    if let Some(freeze) = settings.freeze_of(address, now) {
        return Err(format!("frozen by {}", freeze.words()));
    }
    let broken = broken(clause)?;
    match host.inspect(clause, &*wanted.contents, key) {
        Inspection::Seen(seen) if differences(clause, &seen.found, seen.content_bytes).is_empty() => {
            Ok((clause.clone(), broken, *seen))
        }
        Inspection::Seen(_) => Err("it is not in line, and a drill breaks only what is".to_owned()),
        Inspection::Failed(failure) => Err(format!("it cannot be inspected: {}", failure.message)),
        Inspection::Unsupported(why) => Err(format!("it cannot be inspected: {why}")),
    }
}

/// Makes a thing as a clause says. Returns why it could not be.
fn make_so(
    clause: &Clause,
    seen: &Seen,
    contents: &dyn Contents,
    state_dir: &StateDir,
    host: &mut dyn Host,
) -> Result<Option<String>, AgentError> {
    let different = differences(clause, &seen.found, seen.content_bytes);
    let mut attic = AtticStore::open(state_dir, None)?;
    Ok(host.correct(clause, &different, contents, &mut attic).failure.map(|failure| failure.message))
}

/// What became of a clause that was to be undone.
enum Undone {
    /// It is undone.
    Now,
    /// Somebody did before.
    Before,
    /// It is not, and why.
    Failed(String),
}

fn undo(
    wanted: &Clause,
    key: &DigestKey,
    contents: &dyn Contents,
    state_dir: &StateDir,
    host: &mut dyn Host,
) -> Result<Undone, AgentError> {
    let broken = match broken(wanted) {
        Ok(broken) => broken.clause,
        Err(why) => return Ok(Undone::Failed(why)),
    };
    let seen = match host.inspect(wanted, contents, key) {
        Inspection::Seen(seen) => *seen,
        Inspection::Failed(failure) => return Ok(Undone::Failed(failure.message)),
        Inspection::Unsupported(why) => return Ok(Undone::Failed(why)),
    };
    if differences(wanted, &seen.found, seen.content_bytes).is_empty() {
        return Ok(Undone::Before);
    }
    if !differences(&broken, &seen.found, seen.content_bytes).is_empty() {
        return Ok(Undone::Failed("somebody changed it otherwise meanwhile; it is left as it is".to_owned()));
    }
    Ok(make_so(wanted, &seen, contents, state_dir, host)?.map_or(Undone::Now, Undone::Failed))
}
