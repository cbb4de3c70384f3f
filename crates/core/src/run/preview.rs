//! Side effects of changing packages: reported by observing runs, and refused by clauses with `only_alone`.

use super::action::{Action, PackagePreview};
use super::decide::Mode;
use super::machine::{Phase, Run};
use super::result::{Decision, Failure, FailureAt, Leave, Outcome, PackageChange, Verdict};
use crate::compare::Difference;
use crate::kit::Gone;
use jiff::Timestamp;

impl PackagePreview {
    /// Returns whether nothing is to be said.
    fn is_empty(&self) -> bool {
        self.packages.is_empty() && self.not_known.is_empty() && self.failure.is_none()
    }
}

/// What is not known is not taken for nothing by a clause that wants to be alone.
fn unknown(not_known: &[Failure]) -> Option<Failure> {
    let first = not_known.first()?;
    let all: Vec<&str> = not_known.iter().map(|why| why.message.as_str()).collect();
    Some(Failure {
        at: FailureAt::Correct,
        message: format!(
            "the clause says only_alone = true, but the effect of the change cannot be determined: {}",
            all.join(", ")
        ),
        command: first.command.clone(),
        remedy: Some(
            "refresh the package index (apt-get update, dnf makecache); the next run tries again".to_owned(),
        ),
    })
}

impl Run<'_> {
    /// Returns whether a change of this clause is to be looked at before it is made, or is said to be made.
    pub(super) fn wants_to_be_alone(&self, at: usize) -> bool {
        let clause = self.clause(at);
        let due = self.results[at].as_ref().map(|result| result.would.as_ref().unwrap_or(&result.decision));
        clause.address.kind() == "package"
            && clause.flag("only_alone") == Some(true)
            && due == Some(&Decision::Correct)
    }

    /// Takes in what the change of a clause that wants to be alone would take along.
    pub(super) fn alone_previewed(
        &mut self,
        at: usize,
        different: Vec<Difference>,
        package_preview: PackagePreview,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        let name = self.clause(at).name();
        let others: Vec<PackageChange> = package_preview
            .packages
            .into_iter()
            .filter(|change| change.package != name && self.is_taken(change))
            .collect();
        let is_observing = self.settings.mode == Mode::Observe;
        let result = self.result(at);
        result.took_us += took_us;
        result.native.extend(package_preview.native);
        if let Some(failure) = package_preview.failure.or_else(|| unknown(&package_preview.not_known)) {
            result.outcome = Outcome::Failed;
            result.failure = Some(failure);
        } else if !others.is_empty() {
            let left = Decision::Leave { why: Leave::NotAlone { packages: others } };
            result.would = is_observing.then(|| left.clone());
            result.decision = left;
        } else if !is_observing {
            let found = result.found.clone().expect("it was seen");
            return self.correct(at, different, &found, now);
        }
        self.react_or_go_on(at, now)
    }

    /// Returns whether something goes or changes that no clause wants gone; what only comes takes nothing away.
    fn is_taken(&self, change: &PackageChange) -> bool {
        let is_wanted_gone = || {
            let same = |other: &&crate::state::Clause| {
                other.address.kind() == "package" && other.name() == change.package
            };
            self.state.clauses.iter().find(same).is_some_and(|other| other.gone != Gone::No)
        };
        change.before.is_some() && !(change.after.is_none() && is_wanted_gone())
    }

    /// Returns the packages that are out of line at the end of an observing run, unless something else has to come first.
    pub(super) fn packages_to_preview(&self) -> Vec<usize> {
        if self.settings.mode != Mode::Observe {
            return Vec::new();
        }
        let may_change = |due: &Decision| match due {
            Decision::Correct => true,
            Decision::Leave { why } => !matches!(why, Leave::NotAlone { .. }),
            Decision::Nothing | Decision::Blocked { .. } => false,
        };
        let is_one = |at: &usize| {
            self.clause(*at).address.kind() == "package"
                && self.results[*at].as_ref().is_some_and(|result| {
                    result.verdict == Some(Verdict::Different)
                        && result.outcome == Outcome::OutOfLine
                        && result.would.as_ref().is_some_and(may_change)
                })
        };
        (0..self.results.len()).filter(is_one).collect()
    }

    /// Takes in what all changes together would take along.
    pub(super) fn all_previewed(&mut self, package_preview: PackagePreview) -> Vec<Action> {
        self.package_preview = (!package_preview.is_empty()).then_some(package_preview);
        self.phase = Phase::Over;
        vec![Action::Finish]
    }
}
