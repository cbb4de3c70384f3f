//! Reactions within a run: set off before a change, settled by what is found, carried out at the target's place.

use super::action::{Action, Inspection};
use super::decide::Mode;
use super::gate::Need;
use super::machine::{Phase, Run, Turn};
use super::reaction::{DueCause, DueReaction};
use super::result::{
    Decision, Failure, FailureAt, MissedReaction, NativeStep, Outcome, ReactionResult, ReactionState,
};
use crate::address::ClauseAddress;
use crate::compare::{Difference, differences};
use crate::digest::Digest;
use crate::kit::Gone;
use crate::state::Clause;
use jiff::Timestamp;

impl Run<'_> {
    /// Marks what reacts to this clause as due, before the change. Returns whether anything does.
    pub(super) fn set_off_reactions(&mut self, at: usize, found: &Digest, now: Timestamp) -> bool {
        let address = &self.clause(at).address;
        let mut any = false;
        for (target_at, target) in self.state.clauses.iter().enumerate() {
            let Some(reaction) =
                target.reaction.filter(|_| target.reacts_to.contains(address) && !is_pointless(target))
            else {
                continue;
            };
            let cause = DueCause { address: address.clone(), found_before: found.clone(), happened: false };
            DueReaction::set_off(&mut self.due, &target.address, reaction, cause, now);
            any = true;
            let handled = self.results[target_at].is_some();
            if handled && !self.turns.contains(&Turn::React(target_at)) {
                self.turns.push_back(Turn::React(target_at));
            }
        }
        any
    }

    /// Learns whether the changes that set reactions off have happened: found as before means they were cut off.
    pub(super) fn resolve_causes(&mut self, address: &ClauseAddress, found: &Digest) -> Vec<Action> {
        let before = self.due.clone();
        for due in &mut self.due {
            due.causes.retain_mut(|cause| {
                let undecided = cause.address == *address && !cause.happened;
                cause.happened |= undecided && cause.found_before != *found;
                !undecided || cause.happened
            });
        }
        self.due.retain(|due| !due.causes.is_empty());
        if self.due == before { Vec::new() } else { vec![Action::KeepDue(self.due.clone())] }
    }

    /// Carries out the reaction that is due at this clause's place, or goes on to the next clause.
    pub(super) fn react_or_go_on(&mut self, at: usize, now: Timestamp) -> Vec<Action> {
        let clause = self.clause(at);
        let Some(due) = self.due.iter().find(|due| due.target == clause.address).cloned() else {
            self.say_what_would_react(at, now);
            self.say_what_was_missed(at);
            return self.next_turn(now);
        };
        let reaction_result = |state| ReactionResult {
            reaction: due.reaction,
            causes: due.causes.iter().map(|cause| cause.address.clone()).collect(),
            since: due.since,
            state,
        };
        if is_pointless(clause) || self.started.contains(&at) {
            self.result(at).reaction = Some(reaction_result(ReactionState::NotNeeded));
            let mut actions = self.clear_due(&clause.address);
            actions.extend(self.next_turn(now));
            return actions;
        }
        let own_failed =
            matches!(self.result(at).outcome, Outcome::Failed | Outcome::Blocked | Outcome::Unsupported);
        let locked = self.settings.mode == Mode::Observe
            || self.settings.freeze_of(&clause.address, now).is_some()
            || self.settings.closed_until(clause, now).is_some();
        if locked || own_failed || self.blocker(at).is_some() {
            self.result(at).reaction = Some(reaction_result(ReactionState::Due));
            return self.next_turn(now);
        }
        if !due.is_tried(&self.state.digest, self.on_demand) {
            let message = format!(
                "the {} failed {} times; it is retried under a new desired state or on demand",
                due.reaction.word(),
                due.attempts
            );
            let result = self.result(at);
            result.reaction = Some(reaction_result(ReactionState::Failed));
            result.outcome = Outcome::Failed;
            result.failure = Some(Failure { at: FailureAt::React, message, command: None, remedy: None });
            return self.next_turn(now);
        }
        self.result(at).reaction = Some(reaction_result(ReactionState::Due));
        self.phase = Phase::Reacting(at);
        vec![Action::React(at, due.reaction)]
    }

    /// In an observing run: says that this clause would react, since what it reacts to would be corrected.
    pub(super) fn say_what_would_react(&mut self, at: usize, now: Timestamp) {
        let clause = self.clause(at);
        let Some(reaction) =
            clause.reaction.filter(|_| self.settings.mode == Mode::Observe && !is_pointless(clause))
        else {
            return;
        };
        let would_correct = |address: &&ClauseAddress| matches!(self.need(address), Need::Handled(result) if result.would == Some(Decision::Correct));
        let causes: Vec<ClauseAddress> = clause.reacts_to.iter().filter(would_correct).cloned().collect();
        if causes.is_empty() || self.blocker(at).is_some() {
            return;
        }
        if self.results[at].is_none() {
            return;
        }
        let result = self.result(at);
        let would_start = result.would == Some(Decision::Correct) && started_by(clause, &result.differences);
        if !would_start
            && !matches!(result.outcome, Outcome::Failed | Outcome::Blocked | Outcome::Unsupported)
        {
            result.reaction =
                Some(ReactionResult { reaction, causes, since: now, state: ReactionState::Would });
        }
    }

    /// Says of a service which changes of what it reacts to it is not known to have taken up: runs made them, and nothing was
    /// set off by them.
    fn say_what_was_missed(&mut self, at: usize) {
        let clause = self.clause(at);
        if clause.address.kind() != "service" || clause.reaction.is_none() || is_pointless(clause) {
            return;
        }
        let taken_up = self.memories[at].as_ref().and_then(|memory| memory.taken_up_at);
        let Some(since) = self.running_since.get(&at).copied().max(taken_up) else { return };
        let missed = clause.reacts_to.iter().filter_map(|cause| {
            let memory = self.memories[*self.positions.get(cause)?].as_ref()?;
            let changed_at = memory.changed_at.filter(|changed_at| *changed_at > since)?;
            Some(MissedReaction { cause: cause.clone(), changed_at, running_since: since })
        });
        let missed: Vec<MissedReaction> = missed.collect();
        self.result(at).missed = missed;
    }

    /// Remembers that a service has reacted: it has taken up what was changed before.
    fn has_taken_up(&mut self, at: usize, now: Timestamp) {
        if let Some(memory) = &mut self.memories[at] {
            memory.taken_up_at = Some(now);
        }
    }

    pub(super) fn reacted(
        &mut self,
        at: usize,
        result: Result<Vec<NativeStep>, Failure>,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        self.result(at).took_us += took_us;
        match result {
            Err(failure) => self.reaction_failed(at, failure, now),
            Ok(native) if self.clause(at).address.kind() == "service" => {
                self.phase = Phase::CheckingReaction(at, native);
                vec![Action::Inspect(at)]
            }
            Ok(native) => self.reaction_done(at, native, now),
        }
    }

    /// A service that is not in its desired state after its reaction has not reacted well.
    pub(super) fn reaction_checked(
        &mut self,
        at: usize,
        native: Vec<NativeStep>,
        inspection: &Inspection,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        let clause = self.clause(at);
        self.result(at).took_us += took_us;
        let was_in_line = matches!(self.result(at).outcome, Outcome::InLine | Outcome::Corrected);
        let stands = matches!(inspection, Inspection::Seen(seen) if differences(clause, &seen.found, seen.content_bytes).is_empty());
        if stands || !was_in_line {
            return self.reaction_done(at, native, now);
        }
        let message = "the service is not in its desired state after the reaction".to_owned();
        self.reaction_failed(
            at,
            Failure { at: FailureAt::React, message, command: native.last().cloned(), remedy: None },
            now,
        )
    }

    pub(super) fn reaction_done(
        &mut self,
        at: usize,
        native: Vec<NativeStep>,
        now: Timestamp,
    ) -> Vec<Action> {
        let address = &self.clause(at).address;
        self.has_taken_up(at, now);
        let result = self.result(at);
        result.native.extend(native);
        if let Some(reaction) = &mut result.reaction {
            reaction.state = ReactionState::Done;
        }
        let mut actions = self.clear_due(address);
        actions.extend(self.next_turn(now));
        actions
    }

    pub(super) fn reaction_failed(&mut self, at: usize, failure: Failure, now: Timestamp) -> Vec<Action> {
        let address = &self.clause(at).address;
        let state = self.state.digest.clone();
        for due in self.due.iter_mut().filter(|due| due.target == *address) {
            due.attempts += 1;
            due.tried_under = Some(state.clone());
        }
        let result = self.result(at);
        result.outcome = Outcome::Failed;
        result.failure = Some(failure);
        if let Some(reaction) = &mut result.reaction {
            reaction.state = ReactionState::Failed;
        }
        let mut actions = vec![Action::KeepDue(self.due.clone())];
        actions.extend(self.next_turn(now));
        actions
    }

    pub(super) fn clear_due(&mut self, target: &ClauseAddress) -> Vec<Action> {
        self.due.retain(|due| due.target != *target);
        vec![Action::KeepDue(self.due.clone())]
    }
}

/// Returns whether reacting has no point: the target must not exist, or is wanted stopped.
fn is_pointless(target: &Clause) -> bool {
    target.gone != Gone::No || target.flag("running") == Some(false)
}

/// Returns whether correcting these differences starts the service or runs the command.
pub(super) fn started_by(clause: &Clause, differences: &[Difference]) -> bool {
    match clause.address.kind() {
        "command" => true,
        _ => differences.iter().any(|difference| difference.property == "running"),
    }
}
