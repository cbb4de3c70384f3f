//! A baseline that is wanted of the node, and the terms of its assignment.

use super::clause::{Clause, Switch, SwitchFrom};
use crate::hours::WeeklyHours;
use crate::kit::{Baseline, ClauseDocument, Kit, OnDrift, OnRollout, Severity};
use std::collections::BTreeSet;

/// What an assignment says of the clauses of its baseline, and of those that this includes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AssignmentTerms {
    /// Its own switch for drift.
    pub on_drift: Option<OnDrift>,
    /// Its own switch for what is newly wanted.
    pub on_rollout: Option<OnRollout>,
    /// The severity of clauses that set none, in place of the baseline's.
    pub severity: Option<Severity>,
    /// Controls that the clauses satisfy beside their own.
    pub satisfies: BTreeSet<String>,
    /// Hours in which the clauses may be corrected: of each of these lists, some must be open.
    pub change_windows: Vec<Vec<WeeklyHours>>,
}

impl AssignmentTerms {
    /// Joins the terms of another assignment of the same baseline: the more careful switches, the higher severity, all controls,
    /// and only the hours of both. Returns whether that alters them.
    pub fn join(&mut self, other: &Self) -> bool {
        let before = self.clone();
        self.on_drift = self.on_drift.max(other.on_drift);
        self.on_rollout = self.on_rollout.max(other.on_rollout);
        self.severity = self.severity.max(other.severity);
        self.satisfies.extend(other.satisfies.iter().cloned());
        join_windows(&mut self.change_windows, &other.change_windows);
        *self != before
    }

    /// Lays these terms over a clause of the baseline.
    pub(super) fn lay_over(&self, clause: &mut Clause, document: &ClauseDocument, baseline: &Baseline) {
        clause.on_drift = first_set(document.common.on_drift, self.on_drift, baseline.on_drift);
        clause.on_rollout = first_set(document.common.on_rollout, self.on_rollout, baseline.on_rollout);
        if let (None, Some(severity)) = (document.common.severity, self.severity) {
            clause.severity = severity;
        }
        clause.satisfies.extend(self.satisfies.iter().cloned());
        clause.change_windows.clone_from(&self.change_windows);
    }
}

/// Adds the windows of `from` to those of `into`, each once.
pub(super) fn join_windows(into: &mut Vec<Vec<WeeklyHours>>, from: &[Vec<WeeklyHours>]) {
    into.extend_from_slice(from);
    into.sort();
    into.dedup();
}

fn first_set<T>(clause: Option<T>, assignment: Option<T>, baseline: Option<T>) -> Option<Switch<T>> {
    let set = |value: Option<T>, from| value.map(|value| Switch { value, from });
    set(clause, SwitchFrom::Clause)
        .or_else(|| set(assignment, SwitchFrom::Assignment))
        .or_else(|| set(baseline, SwitchFrom::Baseline))
}

/// A baseline that is wanted of the node.
#[derive(Clone)]
pub struct Assigned<'a> {
    /// The kit that it belongs to.
    pub kit: &'a Kit,
    /// The baseline.
    pub baseline: &'a Baseline,
    /// The terms of its assignment.
    pub terms: AssignmentTerms,
}

impl<'a> Assigned<'a> {
    /// Assigns a baseline without terms.
    pub fn plainly(kit: &'a Kit, baseline: &'a Baseline) -> Self {
        Self { kit, baseline, terms: AssignmentTerms::default() }
    }

    pub(super) fn is_same_as(&self, other: &Self) -> bool {
        self.kit.name == other.kit.name && self.baseline.name.value == other.baseline.name.value
    }
}
