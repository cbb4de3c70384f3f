//! The run as a state machine: it requests one inspection, correction or reaction at a time and receives the result.

use super::action::{
    Action, Correction, Finished, Inspection, OutOfOrder, PackagePreview, PartOf, RunEvent, RunInput, Seen,
    Selection,
};
use super::cause::{Cause, CauseFound, DriftWindow, cause_of};
use super::decide::{DecisionInput, Mode, RunSettings, decide};
use super::drift::NotedDrift;
use super::gate::{Need, blocker, is_really_alike};
use super::memory::{Memories, Memory};
use super::react::started_by;
use super::reaction::DueReaction;
use super::result::{
    Blocker, ClauseResult, Decision, Failure, FailureAt, Leave, NativeStep, NotExamined, Outcome, Verdict,
};
use super::status::{Counts, status_of};
use crate::address::ClauseAddress;
use crate::compare::{
    Difference, Found, FoundValue, differences, differences_in, found_digest, found_digest_of,
};
use crate::digest::{Digest, DigestKey};
use crate::kind::Claim;
use crate::state::{Clause, Compared, EffectiveState};
use foldhash::{HashMap, HashMapExt as _};
use jiff::Timestamp;
use std::collections::{BTreeSet, VecDeque};

/// One run.
pub struct Run<'s> {
    pub(super) state: &'s EffectiveState,
    pub(super) settings: RunSettings,
    /// What is remembered of each clause.
    pub(super) memories: Vec<Option<Memory>>,
    /// What is remembered of anything else.
    left_behind: Memories,
    pub(super) due: Vec<DueReaction>,
    pub(super) on_demand: bool,
    key: &'s DigestKey,
    pub(super) positions: HashMap<&'s ClauseAddress, usize>,
    pub(super) turns: VecDeque<Turn>,
    /// Filled in place, since they are large.
    pub(super) results: Vec<Option<ClauseResult>>,
    /// Whose results were altered since those that are settled were asked for.
    altered: Vec<usize>,
    looked_at: HashMap<usize, bool>,
    /// Side effects of this run, by the clause whose correction caused them.
    changed: HashMap<Claim, ClauseAddress>,
    is_whole: bool,
    is_stopped: bool,
    pub(super) started: BTreeSet<usize>,
    /// Since when services run, as found.
    pub(super) running_since: HashMap<usize, Timestamp>,
    pub(super) package_preview: Option<PackagePreview>,
    pub(super) phase: Phase,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Turn {
    /// Inspect, decide, correct, react.
    Handle(usize),
    /// The same once more, since our own package change may have touched it.
    Again(usize),
    /// Only look: it is outside of a partial run and something in it is needed.
    Inspect(usize),
    /// Only react: the clause was handled before the reaction was set off.
    React(usize),
}

#[derive(Debug, Clone)]
pub(super) enum Phase {
    NotBegun,
    Inspecting(Turn),
    /// Looking ahead for one clause, whose differences these are.
    Previewing(usize, Vec<Difference>),
    PreviewingAll,
    /// Gathering what is related to the drift of a clause, whose differences these are.
    GatheringRelated(usize, Vec<Difference>),
    Keeping(usize),
    Correcting(usize),
    Verifying(usize, Correction),
    Reacting(usize),
    CheckingReaction(usize, Vec<NativeStep>),
    Over,
}

impl Phase {
    /// Returns the clause that it is about.
    fn clause(&self) -> Option<usize> {
        match self {
            Self::NotBegun | Self::PreviewingAll | Self::Over => None,
            Self::Inspecting(Turn::Handle(at) | Turn::Again(at) | Turn::Inspect(at) | Turn::React(at))
            | Self::Previewing(at, _)
            | Self::GatheringRelated(at, _)
            | Self::Keeping(at)
            | Self::Correcting(at)
            | Self::Verifying(at, _)
            | Self::Reacting(at)
            | Self::CheckingReaction(at, _) => Some(*at),
        }
    }
}

impl<'s> Run<'s> {
    /// Prepares a run.
    pub fn new(input: RunInput<'s>) -> Self {
        let state = input.state;
        let mut positions = HashMap::with_capacity(state.clauses.len());
        for (at, clause) in state.clauses.iter().enumerate() {
            for address in std::iter::once(&clause.address).chain(&clause.also) {
                positions.entry(address).or_insert(at);
            }
        }
        let (mut memories, mut left_behind) = (vec![None; state.clauses.len()], Vec::new());
        for (address, memory) in input.memories {
            match positions.get(&address) {
                Some(&at) if state.clauses[at].address == address => memories[at] = Some(memory),
                _ => left_behind.push((address, memory)),
            }
        }
        let chosen = |at: usize| match &input.part {
            Selection::Whole => true,
            Selection::Chosen(addresses) => addresses.contains(&state.clauses[at].address),
        };
        let needed = |at: usize| {
            let address = &state.clauses[at].address;
            state
                .clauses
                .iter()
                .enumerate()
                .any(|(other, clause)| chosen(other) && clause.needs.contains(address))
        };
        let turns = (0..state.clauses.len())
            .filter_map(|at| match (chosen(at), input.part == Selection::Whole) {
                (true, _) => Some(Turn::Handle(at)),
                (false, false) if needed(at) => Some(Turn::Inspect(at)),
                _ => None,
            })
            .collect();
        let mut run = Self {
            state,
            settings: input.settings,
            memories,
            left_behind,
            due: input.due,
            on_demand: input.on_demand,
            key: input.key,
            positions,
            turns,
            results: std::iter::repeat_with(|| None).take(state.clauses.len()).collect(),
            altered: Vec::new(),
            looked_at: HashMap::new(),
            changed: HashMap::new(),
            is_whole: input.part == Selection::Whole,
            is_stopped: false,
            started: BTreeSet::new(),
            running_since: HashMap::new(),
            package_preview: None,
            phase: Phase::NotBegun,
        };
        if run.is_whole {
            run.due.retain(|due| run.positions.contains_key(&due.target));
        }
        run
    }

    /// Begins; a whole run closes the memory of what is no longer desired.
    pub fn begin(&mut self, now: Timestamp) -> Vec<Action> {
        if self.is_whole {
            for (address, memory) in &mut self.left_behind {
                if !self.positions.contains_key(address) && memory.closed_at.is_none() {
                    memory.closed_at = Some(now);
                    memory.drift = None;
                }
            }
        }
        self.next_turn(now)
    }

    /// Moves the run forward and returns what the agent does next.
    ///
    /// `now` is the agent's clock in UTC.
    ///
    /// # Errors
    ///
    /// Returns [`OutOfOrder`] if the event does not answer what was asked; the run then stays as it is.
    pub fn on_event(&mut self, event: RunEvent, now: Timestamp) -> Result<Vec<Action>, OutOfOrder> {
        match (self.phase.clone(), event) {
            (Phase::Inspecting(turn), RunEvent::Inspected(inspection, took_us)) => {
                Ok(self.inspected(turn, inspection, took_us, now))
            }
            (Phase::Previewing(at, different), RunEvent::PackagePreview(package_preview, took_us)) => {
                Ok(self.alone_previewed(at, different, package_preview, took_us, now))
            }
            (Phase::PreviewingAll, RunEvent::PackagePreview(package_preview, _)) => {
                Ok(self.all_previewed(package_preview))
            }
            (Phase::GatheringRelated(at, different), RunEvent::Gathered(related, took_us)) => {
                Ok(self.gathered(at, different, related, took_us, now))
            }
            (Phase::Keeping(at), RunEvent::Kept(kept, took_us)) => Ok(self.was_kept(at, kept, took_us, now)),
            (Phase::Correcting(at), RunEvent::Corrected(correction, took_us)) => {
                Ok(self.corrected(at, correction, took_us))
            }
            (Phase::Verifying(at, correction), RunEvent::Inspected(inspection, took_us)) => {
                Ok(self.verified(at, correction, &inspection, took_us, now))
            }
            (Phase::Reacting(at), RunEvent::Reacted(result, took_us)) => {
                Ok(self.reacted(at, result, took_us, now))
            }
            (Phase::CheckingReaction(at, native), RunEvent::Inspected(inspection, took_us)) => {
                Ok(self.reaction_checked(at, native, &inspection, took_us, now))
            }
            _ => Err(OutOfOrder),
        }
    }

    /// Begins no further clause: what is begun is brought to its end, and reactions that are due stay so. The run is one of a part then,
    /// unless it was at its end. Returns whether it left something out.
    pub fn stop(&mut self) -> bool {
        let left = !self.turns.is_empty();
        self.turns.clear();
        self.is_stopped |= left;
        self.is_whole &= !left;
        left
    }

    /// Returns what came out, since this was asked the last time, of clauses that are not under way any more: the place of each among
    /// the clauses, and its result. A clause that is looked at again, or reacts later, is returned again.
    pub fn settled(&mut self) -> Vec<(usize, &ClauseResult)> {
        let under_way = self.phase.clause();
        let (later, mut settled): (Vec<usize>, Vec<usize>) =
            std::mem::take(&mut self.altered).into_iter().partition(|at| Some(*at) == under_way);
        self.altered = later;
        settled.sort_unstable();
        settled.dedup();
        settled.into_iter().filter_map(|at| Some((at, self.results[at].as_ref()?))).collect()
    }

    /// Returns what the run came to; `None` before it is over.
    pub fn finish(self) -> Option<Finished> {
        let untouched = |at: &usize| self.results[*at].is_none();
        let is_known_out = |memory: &Memory| memory.drift.is_some() || memory.alike.is_none();
        let left_out = (0..self.results.len()).filter(untouched).count();
        let out_of_line = (0..self.results.len())
            .filter(untouched)
            .filter(|at| self.memories[*at].as_ref().is_some_and(is_known_out))
            .count();
        let part = (!self.is_whole)
            .then_some(PartOf { left_out: left_out as u64, known_out_of_line: out_of_line as u64 });
        matches!(self.phase, Phase::Over).then(|| {
            #[expect(
                clippy::filter_map_identity,
                reason = "it takes the results over where they stand, and flatten moves them"
            )]
            let results: Vec<ClauseResult> = self.results.into_iter().filter_map(|result| result).collect();
            let mut memories = self.left_behind;
            memories.reserve(self.memories.len());
            let of_clauses = self.state.clauses.iter().zip(self.memories);
            memories
                .extend(of_clauses.filter_map(|(clause, memory)| Some((clause.address.clone(), memory?))));
            let (status, counts) = (status_of(&results, !self.due.is_empty()), Counts::of(&results));
            Finished {
                status,
                counts,
                results,
                memories,
                due: self.due,
                part,
                package_preview: self.package_preview,
            }
        })
    }

    pub(super) fn clause(&self, at: usize) -> &'s Clause {
        &self.state.clauses[at]
    }

    pub(super) fn result(&mut self, at: usize) -> &mut ClauseResult {
        if self.altered.last() != Some(&at) {
            self.altered.push(at);
        }
        self.results[at].as_mut().expect("a clause has a result from its turn on")
    }

    pub(super) fn next_turn(&mut self, now: Timestamp) -> Vec<Action> {
        while let Some(turn) = self.turns.pop_front() {
            let (Turn::Handle(at) | Turn::Again(at) | Turn::Inspect(at) | Turn::React(at)) = turn;
            let clause = self.clause(at);
            if turn == Turn::React(at) {
                let actions = self.react_or_go_on(at, now);
                return actions;
            }
            if let Some(why) = clause.undecidable.clone().or_else(|| clause.not_known()) {
                self.results[at] = Some(blank(clause));
                self.unsupported(at, Some(why));
                continue;
            }
            if clause.is_only_a_reaction() {
                if matches!(turn, Turn::Inspect(_)) {
                    self.looked_at.insert(at, true);
                    continue;
                }
                self.results[at] = Some(blank(clause));
                self.result(at);
                return self.react_or_go_on(at, now);
            }
            self.phase = Phase::Inspecting(turn);
            return vec![Action::Inspect(at)];
        }
        let packages = if self.is_stopped { Vec::new() } else { self.packages_to_preview() };
        if packages.is_empty() {
            self.phase = Phase::Over;
            return vec![Action::Finish];
        }
        self.phase = Phase::PreviewingAll;
        vec![Action::Preview(packages)]
    }

    fn inspected(&mut self, turn: Turn, inspection: Inspection, took_us: u64, now: Timestamp) -> Vec<Action> {
        let (Turn::Handle(at) | Turn::Again(at) | Turn::Inspect(at) | Turn::React(at)) = turn;
        let clause = self.clause(at);
        if matches!(turn, Turn::Inspect(_)) {
            let alike = matches!(&inspection, Inspection::Seen(seen) if differences(clause, &seen.found, seen.content_bytes).is_empty());
            self.looked_at.insert(at, alike);
            return self.next_turn(now);
        }
        let before = self.results[at].replace(blank(clause));
        self.result(at).took_us = took_us + before.as_ref().map_or(0, |before| before.took_us);
        match inspection {
            Inspection::Unsupported(why) => {
                self.unsupported(at, Some(why));
                self.next_turn(now)
            }
            Inspection::Failed(failure) => {
                self.unseen(at, failure);
                self.next_turn(now)
            }
            Inspection::Seen(seen) => self.seen(at, turn, *seen, before, now),
        }
    }

    fn unsupported(&mut self, at: usize, why: Option<String>) {
        let result = self.result(at);
        result.verdict = Some(Verdict::Unseen);
        result.outcome = Outcome::Unsupported;
        result.unsupported = why;
    }

    /// A clause that could not be inspected: blocked if what it needs is not there yet, else failed.
    fn unseen(&mut self, at: usize, failure: Failure) {
        let missing = self.clause(at).needs.iter().find(|need| !is_really_alike(self.need(need)));
        let by = missing.map(|need| {
            let by_itself = Blocker { need: need.clone(), first: need.clone(), outcome: Outcome::OutOfLine };
            blocker(need, self.need(need)).unwrap_or(by_itself)
        });
        let observes = self.settings.mode == Mode::Observe;
        let result = self.result(at);
        result.verdict = Some(Verdict::Unseen);
        result.failure = Some(failure);
        result.outcome = if by.is_some() { Outcome::Blocked } else { Outcome::Failed };
        if let Some(by) = by {
            result.would = observes.then(|| Decision::Blocked { by: by.clone() });
            result.decision = Decision::Blocked { by };
        }
    }

    fn seen(
        &mut self,
        at: usize,
        turn: Turn,
        seen: Seen,
        before: Option<ClauseResult>,
        now: Timestamp,
    ) -> Vec<Action> {
        let clause = self.clause(at);
        let compared = clause.compared();
        let different = differences_in(&compared, clause, &seen.found, seen.content_bytes);
        let (found, already_there) =
            self.remember_found(at, &compared, &seen.found, different.is_empty(), now);
        let mut actions = self.resolve_causes(&clause.address, &found);
        let changed_by = self.changed.get(&clause.claim).cloned();
        if let Some(since) = seen.running_since {
            self.running_since.insert(at, since);
        }
        let result = self.result(at);
        result.not_examined = not_examined(&seen.found);
        result.native = seen.native;
        result.stand_in = seen.stand_in;
        result.read_at = seen.read_at;
        if different.is_empty() {
            result.verdict = Some(Verdict::Alike);
            result.outcome = Outcome::InLine;
            // What this run installed along with something was not there before it looked.
            result.already_there = already_there && changed_by.is_none();
            result.changed_by = changed_by.filter(|_| already_there);
            result.found = Some(found);
            // A second look that finds nothing leaves what the first one said.
            if let Some(before) = before {
                *result = ClauseResult { took_us: result.took_us, ..before };
            }
            actions.extend(self.react_or_go_on(at, now));
            return actions;
        }
        result.found = Some(found.clone());
        if different.iter().any(|difference| difference.property == "content") {
            match seen.text_diff {
                Some(Ok(diff)) => result.text_diff = Some(diff),
                Some(Err(refusal)) => result.text_diff_refused = Some(refusal),
                None => {}
            }
        }
        result.verdict = Some(Verdict::Different);
        result.differences.clone_from(&different);
        let cause = self.cause(at, turn, &found, now);
        self.result(at).changed_by = changed_by.filter(|_| cause.cause == Cause::TargetMoved);
        let new_window = self.decide(at, cause, &found, now);
        match new_window.filter(|_| self.settings.gathers_related) {
            // Before anything is corrected: afterwards the file's own times are those of the correction.
            Some(window) => {
                self.phase = Phase::GatheringRelated(at, different);
                actions.push(Action::GatherRelated(at, window));
            }
            None => actions.extend(self.act(at, different, &found, now)),
        }
        actions
    }

    /// Acts on what was decided, or goes on.
    pub(super) fn act(
        &mut self,
        at: usize,
        different: Vec<Difference>,
        found: &Digest,
        now: Timestamp,
    ) -> Vec<Action> {
        if self.wants_to_be_alone(at) {
            self.phase = Phase::Previewing(at, different);
            return vec![Action::Preview(vec![at])];
        }
        let is_in_grace = self.settings.mode == Mode::Enforce
            && matches!(self.result(at).decision, Decision::Leave { why: Leave::Grace { .. } });
        if self.result(at).decision == Decision::Correct {
            return self.correct(at, different, found, now);
        }
        if is_in_grace && self.is_to_be_kept(at) {
            self.phase = Phase::Keeping(at);
            return vec![Action::Keep(at)];
        }
        self.react_or_go_on(at, now)
    }

    pub(super) fn correct(
        &mut self,
        at: usize,
        different: Vec<Difference>,
        found: &Digest,
        now: Timestamp,
    ) -> Vec<Action> {
        let mut actions = Vec::new();
        if self.set_off_reactions(at, found, now) {
            actions.push(Action::KeepDue(self.due.clone()));
        }
        self.phase = Phase::Correcting(at);
        actions.push(Action::Correct(at, different));
        actions
    }

    /// Returns the digest of what was found; if that is alike, it is remembered, and returned too whether it never was before.
    fn remember_found(
        &mut self,
        at: usize,
        compared: &[Compared<'_>],
        found: &Found,
        is_alike: bool,
        now: Timestamp,
    ) -> (Digest, bool) {
        let (clause, memory) = (&self.state.clauses[at], &mut self.memories[at]);
        let known =
            memory.as_ref().and_then(|memory| memory.found_when_alike(compared, clause, found)).cloned();
        let digest = known.unwrap_or_else(|| found_digest_of(compared, clause, found, self.key));
        if !is_alike {
            return (digest, false);
        }
        let is_first = match memory {
            Some(memory) => memory.was_alike(&clause.wanted, &digest, now),
            None => {
                *memory = Some(Memory::alike(clause.wanted.clone(), digest.clone(), now));
                true
            }
        };
        (digest, is_first)
    }

    fn cause(&self, at: usize, turn: Turn, found: &Digest, now: Timestamp) -> CauseFound {
        let clause = self.clause(at);
        let cause = cause_of(self.memories[at].as_ref(), &clause.wanted, found, now);
        let is_own = matches!(turn, Turn::Again(_)) || self.changed.contains_key(&clause.claim);
        if is_own && cause.cause == Cause::Drift {
            // It was alike before this run: our own package change did this.
            return CauseFound {
                cause: Cause::TargetMoved,
                also_drifted: false,
                window: None,
                newness: None,
            };
        }
        cause
    }

    /// Decides what is due, and returns the time in which the clause drifted, if that was not known before.
    fn decide(
        &mut self,
        at: usize,
        cause: CauseFound,
        found: &Digest,
        now: Timestamp,
    ) -> Option<DriftWindow> {
        let clause = self.clause(at);
        let NotedDrift { found_so_at: drift_found_at, new_window } = self.note_drift(at, cause, found, now);
        let want = DecisionInput {
            clause,
            correctable: clause.kind().correctable(),
            cause,
            found,
            drift_found_at,
            blocker: self.blocker(at),
        };
        let due = decide(&want, &self.settings, now);
        let mode = self.settings.mode;
        let drill = self.settings.drilled.as_ref().filter(|drill| drill.clauses.contains(&clause.address));
        let drill = drill.filter(|_| cause.has_drift()).map(|drill| drill.no);
        let result = self.result(at);
        result.drill = drill;
        result.cause = Some(cause.cause);
        result.also_drifted = cause.also_drifted;
        result.newness = cause.newness;
        result.drift_window = cause.window;
        result.decision = match (mode, &due) {
            (Mode::Observe, Decision::Correct) => Decision::Leave { why: Leave::Observing },
            _ => due.clone(),
        };
        result.would = (mode == Mode::Observe).then_some(due);
        result.outcome = if matches!(result.decision, Decision::Blocked { .. }) {
            Outcome::Blocked
        } else {
            Outcome::OutOfLine
        };
        new_window
    }

    fn corrected(&mut self, at: usize, correction: Correction, took_us: u64) -> Vec<Action> {
        let result = self.result(at);
        result.took_us += took_us;
        result.native.extend(correction.native.iter().cloned());
        result.packages.clone_from(&correction.packages);
        result.kept.clone_from(&correction.kept);
        self.phase = Phase::Verifying(at, correction);
        vec![Action::Inspect(at)]
    }

    fn verified(
        &mut self,
        at: usize,
        correction: Correction,
        inspection: &Inspection,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        let clause = self.clause(at);
        let mut actions = Vec::new();
        let (remaining, found) = match inspection {
            Inspection::Seen(seen) => {
                let found = found_digest(clause, &seen.found, self.key);
                actions = self.resolve_causes(&clause.address, &found);
                (differences(clause, &seen.found, seen.content_bytes), Some(found))
            }
            // What cannot be seen may have changed: the reaction stays due.
            Inspection::Failed(_) | Inspection::Unsupported(_) => (Vec::new(), None),
        };
        let is_alike = found.is_some() && remaining.is_empty();
        if let Inspection::Seen(seen) = inspection {
            self.result(at).not_examined = not_examined(&seen.found);
        }
        let failure = correction.failure.or_else(|| (!is_alike).then(|| verify_failure(inspection)));
        let result = self.result(at);
        result.took_us += took_us;
        result.still_different = remaining;
        result.outcome = if failure.is_some() { Outcome::Failed } else { Outcome::Corrected };
        result.failure = failure;
        if let (true, Some(found)) = (is_alike, found) {
            let was_started = started_by(clause, &self.result(at).differences);
            if was_started {
                self.started.insert(at);
            }
            let memory =
                Memory::corrected(self.memories[at].as_ref(), clause.wanted.clone(), found, was_started, now);
            self.memories[at] = Some(memory.clone());
            actions.push(Action::Remember(clause.address.clone(), memory));
        }
        for claim in &correction.touched {
            self.changed.entry(claim.clone()).or_insert_with(|| clause.address.clone());
        }
        self.look_again(at, &correction.touched);
        actions.extend(self.react_or_go_on(at, now));
        actions
    }

    /// Puts clauses that were handled already and are in changed packages up for a second look.
    fn look_again(&mut self, at: usize, touched: &BTreeSet<Claim>) {
        for other in (0..self.state.clauses.len()).rev() {
            let handled = self.results[other]
                .as_ref()
                .is_some_and(|result| result.verdict.is_some() && result.unsupported.is_none());
            if other != at && handled && touched.contains(&self.clause(other).claim) {
                self.turns.push_front(Turn::Again(other));
            }
        }
    }

    pub(super) fn need(&self, address: &ClauseAddress) -> Need<'_> {
        let Some(&at) = self.positions.get(address) else { return Need::Unknown };
        match (&self.results[at], self.looked_at.get(&at)) {
            (Some(result), _) => Need::Handled(result),
            (None, Some(&alike)) => Need::LookedAt { alike },
            (None, None) => Need::Unknown,
        }
    }

    pub(super) fn blocker(&self, at: usize) -> Option<Blocker> {
        self.clause(at).needs.iter().find_map(|need| blocker(need, self.need(need)))
    }
}

fn verify_failure(inspection: &Inspection) -> Failure {
    let message = match inspection {
        Inspection::Seen(_) => "it still differs after the correction".to_owned(),
        Inspection::Failed(failure) => {
            format!("it cannot be inspected after the correction: {}", failure.message)
        }
        Inspection::Unsupported(why) => format!("it cannot be inspected after the correction: {why}"),
    };
    Failure { at: FailureAt::Verify, message, command: None, remedy: None }
}

fn not_examined(found: &Found) -> Vec<NotExamined> {
    let here = found.properties.iter().filter_map(|(property, value)| match value {
        FoundValue::NotExaminedHere(why) => {
            Some(NotExamined { property: property.clone().into_owned(), why: why.clone() })
        }
        _ => None,
    });
    here.collect()
}

/// A result of which nothing is known yet.
fn blank(clause: &Clause) -> ClauseResult {
    ClauseResult {
        address: clause.address.clone(),
        severity: clause.severity,
        origins: clause.origins.clone(),
        satisfies: clause.satisfies.clone(),
        topics: clause.topics.clone(),
        wanted: clause.wanted.clone(),
        found: None,
        verdict: None,
        cause: None,
        also_drifted: false,
        newness: None,
        drill: None,
        drift_window: None,
        related: None,
        already_there: false,
        changed_by: None,
        decision: Decision::Nothing,
        would: None,
        outcome: Outcome::Idle,
        differences: Vec::new(),
        still_different: Vec::new(),
        text_diff: None,
        text_diff_refused: None,
        read_at: None,
        not_examined: Vec::new(),
        packages: Vec::new(),
        kept: Vec::new(),
        unsupported: None,
        failure: None,
        reaction: None,
        native: Vec::new(),
        stand_in: None,
        missed: Vec::new(),
        dropped_needs: clause.dropped_needs.clone(),
        took_us: 0,
    }
}
