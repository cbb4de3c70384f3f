//! What is otherwise in a run than in one before it, clause by clause.

use crate::address::ClauseAddress;
use crate::attention::ExceptionSort;
use crate::kit::Severity;
use crate::run::{Cause, ClauseResult, Outcome};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How a clause's result is otherwise, the most severe first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ResultChange {
    /// It failed, and had not before.
    FailsNow,
    /// It failed before, and again.
    FailsAgain,
    /// It is not in line, and was before.
    OutOfLineNow,
    /// It is not in line as before, and something else was found.
    FoundOtherwise,
    /// It failed before, and does not any more.
    PassesNow,
    /// It is in line, and was not before.
    InLineNow,
    /// It was corrected in this run.
    CorrectedNow,
    /// It was not examined before: it is wanted since, or the run before was a part.
    New,
    /// It was examined before, and is not any more.
    Gone,
}

impl ResultChange {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::FailsNow,
        Self::FailsAgain,
        Self::OutOfLineNow,
        Self::FoundOtherwise,
        Self::PassesNow,
        Self::InLineNow,
        Self::CorrectedNow,
        Self::New,
        Self::Gone,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::FailsNow => "fails now",
            Self::FailsAgain => "fails again",
            Self::OutOfLineNow => "out of line now",
            Self::FoundOtherwise => "found otherwise",
            Self::PassesNow => "failed last time, passes now",
            Self::InLineNow => "in line now",
            Self::CorrectedNow => "corrected in this run",
            Self::New => "new",
            Self::Gone => "gone",
        }
    }
}

/// A clause that is otherwise.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChangedResult {
    /// The clause.
    pub address: String,
    /// Its severity.
    pub severity: Severity,
    /// How it is otherwise.
    pub change: ResultChange,
    /// The outcome before; none if it was not examined.
    pub before: Option<Outcome>,
    /// The outcome after; none if it was not examined.
    pub after: Option<Outcome>,
    /// Why it is out of line after, or what failed.
    pub cause: Option<Cause>,
    /// Why it is not corrected after, or what failed; of what passes now, what had failed.
    pub message: Option<String>,
}

/// Returns what is otherwise in `after` than in `before`, the most severe first, then by address. Of `before` nothing needs to be known if
/// all was in line: then every clause of `after` was.
pub fn changed_results(before: Option<&[ClauseResult]>, after: &[ClauseResult]) -> Vec<ChangedResult> {
    let old: BTreeMap<&ClauseAddress, &ClauseResult> =
        before.unwrap_or_default().iter().map(|result| (&result.address, result)).collect();
    let mut changed: Vec<ChangedResult> = after
        .iter()
        .filter_map(|result| {
            let known = old.get(&result.address).copied();
            let change = match (before, known) {
                (Some(_), None) => ResultChange::New,
                (_, known) => change_of(known, result)?,
            };
            let told = if change == ResultChange::PassesNow { known.unwrap_or(result) } else { result };
            Some(ChangedResult {
                address: result.address.to_string(),
                severity: result.severity,
                change,
                before: known
                    .map_or(before.is_none().then_some(Outcome::InLine), |known| Some(known.outcome)),
                after: Some(result.outcome),
                cause: result.cause,
                message: ExceptionSort::of(told)
                    .map(|(_, message)| message)
                    .filter(|message| !message.is_empty()),
            })
        })
        .collect();
    let kept: BTreeMap<&ClauseAddress, ()> = after.iter().map(|result| (&result.address, ())).collect();
    changed.extend(old.into_values().filter(|known| !kept.contains_key(&known.address)).map(|known| {
        ChangedResult {
            address: known.address.to_string(),
            severity: known.severity,
            change: ResultChange::Gone,
            before: Some(known.outcome),
            after: None,
            cause: None,
            message: None,
        }
    }));
    changed.sort_by(|left, right| (left.change, &left.address).cmp(&(right.change, &right.address)));
    changed
}

/// How a clause is otherwise that was known before, or in line if nothing is known; none if it is the same.
fn change_of(known: Option<&ClauseResult>, result: &ClauseResult) -> Option<ResultChange> {
    let is_fine = |outcome| matches!(outcome, Outcome::InLine | Outcome::Corrected | Outcome::Idle);
    let was = known.map_or(Outcome::InLine, |known| known.outcome);
    match (was, result.outcome) {
        (Outcome::Failed, Outcome::Failed) => Some(ResultChange::FailsAgain),
        (_, Outcome::Failed) => Some(ResultChange::FailsNow),
        (Outcome::Failed, _) => Some(ResultChange::PassesNow),
        (was, now) if is_fine(was) && !is_fine(now) => Some(ResultChange::OutOfLineNow),
        (was, now) if !is_fine(was) && is_fine(now) => Some(ResultChange::InLineNow),
        (_, Outcome::Corrected) => Some(ResultChange::CorrectedNow),
        (was, now) if !is_fine(now) => {
            let is_same = was == now && known.is_some_and(|known| known.found == result.found);
            (!is_same).then_some(ResultChange::FoundOtherwise)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::of_contents;
    use crate::run::Decision;
    use serde_json::json;

    fn result(name: &str, outcome: Outcome, found: &str) -> ClauseResult {
        let digest = of_contents(found.as_bytes());
        serde_json::from_value(json!({
            "address": format!("file:/etc/{name}"), "severity": "medium", "origins": [], "wanted": digest, "found": digest,
            "verdict": null, "decision": Decision::Nothing, "outcome": outcome, "took_us": 0,
        }))
        .unwrap()
    }

    #[test]
    fn each_clause_is_told_once_by_how_it_is_otherwise() {
        use Outcome::{Blocked, Corrected, Failed, InLine, OutOfLine};
        let before = [
            result("fails-now", InLine, "a"),
            result("fails-again", Failed, "a"),
            result("passes", Failed, "a"),
            result("drifts", Corrected, "a"),
            result("otherwise", OutOfLine, "a"),
            result("blocked", OutOfLine, "a"),
            result("same", OutOfLine, "a"),
            result("in-line", InLine, "a"),
            result("right-now", OutOfLine, "a"),
            result("gone", OutOfLine, "a"),
        ];
        let after = [
            result("fails-now", Failed, "a"),
            result("fails-again", Failed, "a"),
            result("passes", Corrected, "a"),
            result("drifts", OutOfLine, "b"),
            result("otherwise", OutOfLine, "b"),
            result("blocked", Blocked, "a"),
            result("same", OutOfLine, "a"),
            result("in-line", Corrected, "a"),
            result("right-now", InLine, "b"),
            result("new", OutOfLine, "b"),
        ];
        let told: Vec<(String, ResultChange)> = changed_results(Some(&before), &after)
            .into_iter()
            .map(|one| (one.address.trim_start_matches("file:/etc/").to_owned(), one.change))
            .collect();
        let expected = [
            ("fails-now", ResultChange::FailsNow),
            ("fails-again", ResultChange::FailsAgain),
            ("drifts", ResultChange::OutOfLineNow),
            ("blocked", ResultChange::FoundOtherwise),
            ("otherwise", ResultChange::FoundOtherwise),
            ("passes", ResultChange::PassesNow),
            ("right-now", ResultChange::InLineNow),
            ("in-line", ResultChange::CorrectedNow),
            ("new", ResultChange::New),
            ("gone", ResultChange::Gone),
        ];
        assert_eq!(told, expected.map(|(name, change)| (name.to_owned(), change)));
    }

    #[test]
    fn of_a_run_that_found_all_in_line_nothing_needs_to_be_kept() {
        let told =
            changed_results(None, &[result("a", Outcome::InLine, "a"), result("b", Outcome::Failed, "a")]);
        assert_eq!(told.len(), 1);
        assert_eq!((told[0].change, told[0].before), (ResultChange::FailsNow, Some(Outcome::InLine)));
    }
}
