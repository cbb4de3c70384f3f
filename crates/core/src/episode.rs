//! Drift episodes: from the last moment a clause was known to be in line, through detection, to the moment it was in
//! line again.

use crate::address::ClauseAddress;
use crate::digest::Digest;
use crate::kit::Severity;
use crate::run::{Cause, ClauseResult, DriftWindow, Newness, Outcome, Verdict};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// An episode that is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenEpisode {
    /// What was wanted when it opened.
    pub wanted: Digest,
    /// The last moment the clause was known to be in line.
    pub in_line_until: Timestamp,
    /// When the drift was detected.
    pub detected_at: Timestamp,
}

/// How an episode ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ClosedAs {
    /// The agent put it right.
    Corrected,
    /// It was found right again: a person on the node put it right.
    ByHand,
    /// Something else was wanted, and the clause is in line with that.
    ByRollout,
    /// The clause is no longer desired.
    NotWanted,
    /// The node was taken out of the fleet.
    Retired,
}

impl ClosedAs {
    /// All of them.
    pub const ALL: [Self; 5] =
        [Self::Corrected, Self::ByHand, Self::ByRollout, Self::NotWanted, Self::Retired];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Corrected => "corrected",
            Self::ByHand => "undone by hand",
            Self::ByRollout => "replaced by a rollout",
            Self::NotWanted => "no longer desired",
            Self::Retired => "the node was retired",
        }
    }
}

/// What a run does to the episodes of its node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EpisodeChange {
    /// One opens.
    Open {
        /// The clause.
        address: ClauseAddress,
        /// Its severity.
        severity: Severity,
        /// What was wanted.
        wanted: Digest,
        /// When the drift happened.
        window: DriftWindow,
    },
    /// One ends.
    Close {
        /// The clause.
        address: ClauseAddress,
        /// How.
        closed_as: ClosedAs,
    },
}

/// Returns what a run does to the open episodes of its node; a whole run also ends those of clauses that it has no more.
pub fn follow(
    open: &BTreeMap<ClauseAddress, OpenEpisode>,
    results: &[ClauseResult],
    is_whole: bool,
) -> Vec<EpisodeChange> {
    let mut changes: Vec<EpisodeChange> =
        results.iter().flat_map(|result| of_clause(open.get(&result.address), result)).collect();
    if is_whole {
        let there: BTreeSet<&ClauseAddress> = results.iter().map(|result| &result.address).collect();
        let gone = open.keys().filter(|address| !there.contains(address));
        changes.extend(gone.map(|address| EpisodeChange::Close {
            address: address.clone(),
            closed_as: ClosedAs::NotWanted,
        }));
    }
    changes
}

fn of_clause(open: Option<&OpenEpisode>, result: &ClauseResult) -> Vec<EpisodeChange> {
    let close = |closed_as| EpisodeChange::Close { address: result.address.clone(), closed_as };
    let is_same = open.map_or(result.cause == Some(Cause::Drift), |open| open.wanted == result.wanted);
    match result.verdict {
        Some(Verdict::Alike) if open.is_some() => {
            vec![close(if is_same { ClosedAs::ByHand } else { ClosedAs::ByRollout })]
        }
        Some(Verdict::Different) => {
            let mut changes = Vec::new();
            if let (None, Some(window)) = (open, result.drift_window) {
                let (address, severity, wanted) =
                    (result.address.clone(), result.severity, result.wanted.clone());
                changes.push(EpisodeChange::Open { address, severity, wanted, window });
            }
            if result.outcome == Outcome::Corrected && (open.is_some() || !changes.is_empty()) {
                changes.push(close(if is_same { ClosedAs::Corrected } else { ClosedAs::ByRollout }));
            }
            changes
        }
        _ => Vec::new(),
    }
}

/// Gives the results of a run whose node lost its memory the causes that were last known. Returns whether any changed.
pub fn keep_causes(open: &BTreeMap<ClauseAddress, OpenEpisode>, results: &mut [ClauseResult]) -> bool {
    let mut kept = false;
    for result in results {
        let is_new = result.cause == Some(Cause::Rollout) && result.newness == Some(Newness::NewHere);
        if let Some(open) = open.get(&result.address).filter(|open| is_new && open.wanted == result.wanted) {
            result.cause = Some(Cause::Drift);
            result.newness = None;
            result.drift_window = Some(DriftWindow { from: open.in_line_until, to: open.detected_at });
            kept = true;
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::of_value;
    use crate::run::Decision;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    fn result(
        verdict: Option<Verdict>,
        cause: Option<Cause>,
        outcome: Outcome,
        wanted: &str,
    ) -> ClauseResult {
        let drifted = cause == Some(Cause::Drift);
        let body = serde_json::json!({
            "address": "file:/etc/issue", "severity": "medium", "origins": [], "wanted": of_value("w1", &wanted), "verdict": verdict,
            "cause": cause, "decision": Decision::Nothing, "outcome": outcome, "took_us": 0,
            "drift_window": drifted.then(|| DriftWindow { from: at(1), to: at(2) }),
        });
        serde_json::from_value(body).unwrap()
    }

    fn open(wanted: &str) -> BTreeMap<ClauseAddress, OpenEpisode> {
        let address = result(None, None, Outcome::Idle, "").address;
        BTreeMap::from([(
            address,
            OpenEpisode { wanted: of_value("w1", &wanted), in_line_until: at(1), detected_at: at(2) },
        )])
    }

    #[test]
    fn episodes_open_by_drift_and_end_in_five_ways() {
        let (alike, different) = (Some(Verdict::Alike), Some(Verdict::Different));
        let drift = Some(Cause::Drift);
        let mut both = result(different, Some(Cause::Rollout), Outcome::Corrected, "b");
        (both.also_drifted, both.drift_window) = (true, Some(DriftWindow { from: at(1), to: at(2) }));
        for (name, before, results, expected) in [
            ("nothing to tell", None, vec![result(alike, None, Outcome::InLine, "a")], ""),
            (
                "a rollout is no drift",
                None,
                vec![result(different, Some(Cause::Rollout), Outcome::OutOfLine, "a")],
                "",
            ),
            ("reported only", None, vec![result(different, drift, Outcome::OutOfLine, "a")], "open"),
            ("open already", Some("a"), vec![result(different, drift, Outcome::OutOfLine, "a")], ""),
            (
                "put right at once",
                None,
                vec![result(different, drift, Outcome::Corrected, "a")],
                "open Corrected",
            ),
            (
                "put right later",
                Some("a"),
                vec![result(different, drift, Outcome::Corrected, "a")],
                "Corrected",
            ),
            ("failed to be put right", Some("a"), vec![result(different, drift, Outcome::Failed, "a")], ""),
            ("found right again", Some("a"), vec![result(alike, None, Outcome::InLine, "a")], "ByHand"),
            (
                "something else is wanted",
                Some("a"),
                vec![result(alike, None, Outcome::InLine, "b")],
                "ByRollout",
            ),
            ("brought in over drift", None, vec![both], "open ByRollout"),
            ("not seen", Some("a"), vec![result(Some(Verdict::Unseen), None, Outcome::Failed, "a")], ""),
            ("no longer wanted", Some("a"), vec![], "NotWanted"),
        ] {
            let open = before.map(open).unwrap_or_default();
            let words: Vec<String> = follow(&open, &results, true)
                .into_iter()
                .map(|change| match change {
                    EpisodeChange::Open { .. } => "open".to_owned(),
                    EpisodeChange::Close { closed_as, .. } => format!("{closed_as:?}"),
                })
                .collect();
            assert_eq!(words.join(" "), expected, "{name}");
        }
        assert!(
            follow(&open("a"), &[], false).is_empty(),
            "a partial run ends nothing that it did not touch"
        );
    }

    #[test]
    fn a_node_that_lost_its_memory_keeps_the_causes_last_known() {
        let mut results = [result(Some(Verdict::Different), Some(Cause::Rollout), Outcome::OutOfLine, "a")];
        assert!(!keep_causes(&open("a"), &mut results), "changed is not new");
        results[0].newness = Some(Newness::NewHere);
        assert!(!keep_causes(&open("b"), &mut results), "something else is wanted");
        assert!(keep_causes(&open("a"), &mut results));
        assert_eq!(
            (results[0].cause, results[0].drift_window),
            (Some(Cause::Drift), Some(DriftWindow { from: at(1), to: at(2) }))
        );
    }
}
