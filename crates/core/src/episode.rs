//! Drift episodes: from the last moment a clause was known to be in line, through detection, to the moment it was in
//! line again.

use crate::address::ClauseAddress;
use crate::digest::Digest;
use crate::kit::Severity;
use crate::run::{Cause, ClauseResult, DriftWindow, Newness, Outcome, Verdict};
use jiff::{SignedDuration, Timestamp};
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

/// Drift that came back after the agent put it right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recurrence {
    /// How often.
    pub times: usize,
    /// It came back at the soonest after so long, and at the latest after so long.
    pub after: (SignedDuration, SignedDuration),
    /// Times from the correction to the drift that fit every time it came back; none if no time does.
    pub always_after: Option<(SignedDuration, SignedDuration)>,
}

/// Returns how drift came back, from its episodes in any order: each as the last moment in line, the detection, and the correction by the
/// agent if that was its end. None if it never did.
pub fn recurrence(mut episodes: Vec<(Timestamp, Timestamp, Option<Timestamp>)>) -> Option<Recurrence> {
    episodes.sort_unstable();
    let spans: Vec<(SignedDuration, SignedDuration)> = episodes
        .windows(2)
        .filter_map(|pair| {
            let (corrected, (in_line_until, detected, _)) = (pair[0].2?, pair[1]);
            let since = |at: Timestamp| at.duration_since(corrected).max(SignedDuration::ZERO);
            Some((since(in_line_until), since(detected)))
        })
        .collect();
    let (soonest, latest) = (spans.iter().map(|span| span.0).min()?, spans.iter().map(|span| span.1).max()?);
    let always = (spans.iter().map(|span| span.0).max()?, spans.iter().map(|span| span.1).min()?);
    let always_after = (spans.len() > 1 && always.0 <= always.1).then_some(always);
    Some(Recurrence { times: spans.len(), after: (soonest, latest), always_after })
}

impl Recurrence {
    /// Says it, and what it suggests.
    pub fn words(&self) -> String {
        let span = |(from, until): (SignedDuration, SignedDuration)| {
            format!("{} to {}", duration_words(from), duration_words(until))
        };
        let times = if self.times == 1 { "once".to_owned() } else { format!("{} times", self.times) };
        match self.always_after {
            Some(always) => format!(
                "{times}, each time {} after it was put right: something on the node sets it regularly; look for a schedule, a service or another program",
                span(always)
            ),
            None => format!(
                "{times}, {} after it was put right: somebody or something on the node sets it again; look at who was there in the windows below",
                span(self.after)
            ),
        }
    }
}

/// A duration in its largest whole unit.
fn duration_words(duration: SignedDuration) -> String {
    match duration.as_secs() {
        secs @ 0..120 => format!("{secs} s"),
        secs @ 120..7_200 => format!("{} min", secs / 60),
        secs @ 7_200..172_800 => format!("{} h", secs / 3_600),
        secs => format!("{} days", secs / 86_400),
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
        /// The number of the drill in which it was broken on purpose.
        drill: Option<i64>,
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
                changes.push(EpisodeChange::Open { address, severity, wanted, window, drill: result.drill });
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

    #[test]
    fn drift_that_comes_back_says_how_soon_and_whether_always_as_soon() {
        let at = |minutes: i64| Timestamp::from_second(minutes * 60).expect("a moment");
        let episode = |(in_line, detected, corrected): (i64, i64, Option<i64>)| {
            (at(in_line), at(detected), corrected.map(at))
        };
        let of = |episodes: &[(i64, i64, Option<i64>)]| {
            recurrence(episodes.iter().copied().map(episode).collect())
        };
        assert_eq!(of(&[(0, 15, Some(15))]), None);
        assert_eq!(of(&[(0, 15, None), (60, 75, Some(75))]), None, "nobody had put it right before");
        let hourly = of(&[(135, 150, None), (0, 15, Some(15)), (70, 80, Some(80))]).expect("it came back");
        assert_eq!(hourly.times, 2);
        assert_eq!(
            hourly.words(),
            "2 times, each time 55 min to 65 min after it was put right: something on the node sets it regularly; look for a schedule, a service or another program"
        );
        let at_times = of(&[(0, 15, Some(15)), (30, 45, Some(45)), (600, 615, None)]).expect("it came back");
        assert_eq!(at_times.always_after, None);
        assert!(at_times.words().starts_with("2 times, 15 min to 9 h after it was put right: somebody"));
    }
}
