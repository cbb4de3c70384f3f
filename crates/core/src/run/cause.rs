//! Why a clause is different: drift, rollout, or a target that moved.

use super::memory::Memory;
use crate::digest::Digest;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Why a clause was different.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Cause {
    /// It was as wanted, the same is wanted, and the node changed.
    Drift,
    /// Something new is wanted.
    Rollout,
    /// The node is as it was and the same is wanted, but it no longer fits: the newest version, our own upgrade.
    TargetMoved,
}

/// What is new about a rollout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "newness")]
pub enum Newness {
    /// It was never wanted here, or never right.
    NewHere,
    /// It was wanted here once.
    HereBefore {
        /// Until then.
        until: Timestamp,
    },
    /// The desired state was another one.
    Changed,
}

/// When drift happened: from the moment it was last known to be alike to the moment it was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DriftWindow {
    /// When it was last known to be alike.
    pub from: Timestamp,
    /// When it was found different.
    pub to: Timestamp,
}

/// A cause with all that belongs to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CauseFound {
    /// The cause.
    pub cause: Cause,
    /// Whether the node changed as well.
    pub also_drifted: bool,
    /// When the drift happened, if there was one.
    pub window: Option<DriftWindow>,
    /// What is new, if it is a rollout.
    pub newness: Option<Newness>,
}

impl CauseFound {
    /// Returns whether drift is part of it: it opens an episode.
    pub fn has_drift(&self) -> bool {
        self.cause == Cause::Drift || self.also_drifted
    }
}

/// Returns why a clause is different, from what is remembered of it.
///
/// Digests of unequal schemes say nothing of drift; they count as a target that moved.
pub fn cause_of(memory: Option<&Memory>, wanted: &Digest, found: &Digest, now: Timestamp) -> CauseFound {
    let rollout = |newness| CauseFound {
        cause: Cause::Rollout,
        also_drifted: false,
        window: None,
        newness: Some(newness),
    };
    let Some(memory) = memory else { return rollout(Newness::NewHere) };
    let Some(alike) = &memory.alike else { return rollout(Newness::NewHere) };
    if let Some(until) = memory.closed_at {
        return rollout(Newness::HereBefore { until });
    }
    let target_moved =
        CauseFound { cause: Cause::TargetMoved, also_drifted: false, window: None, newness: None };
    if alike.wanted.scheme() != wanted.scheme() || alike.found.scheme() != found.scheme() {
        return target_moved;
    }
    // The run that found it first says when it had happened; later ones only find it again.
    let window = Some(DriftWindow {
        from: alike.at,
        to: memory.drift.as_ref().map_or(now, |drift| drift.first_found_at),
    });
    match (alike.wanted == *wanted, alike.found == *found) {
        (true, true) => target_moved,
        (true, false) => CauseFound { cause: Cause::Drift, also_drifted: false, window, newness: None },
        (false, true) => rollout(Newness::Changed),
        (false, false) => {
            CauseFound { cause: Cause::Rollout, also_drifted: true, window, newness: Some(Newness::Changed) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::memory::OpenDrift;
    use super::*;
    use crate::digest::of_value;

    fn digest(scheme: &str, of: &str) -> Digest {
        of_value(scheme, &of)
    }

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    fn remembered() -> Memory {
        Memory::alike(digest("w1", "wanted"), digest("f1", "found"), at(100))
    }

    fn cause(memory: Option<&Memory>, wanted: &str, found: &str) -> String {
        let found = cause_of(memory, &digest("w1", wanted), &digest("f1", found), at(200));
        format!(
            "{:?} also_drifted={} {:?} {:?}",
            found.cause,
            found.also_drifted,
            found.newness,
            found.window.map(|window| (window.from.as_second(), window.to.as_second()))
        )
    }

    #[test]
    fn no_memory_is_a_rollout_new_here() {
        assert_eq!(cause(None, "wanted", "found"), "Rollout also_drifted=false Some(NewHere) None");
    }

    #[test]
    fn a_closed_memory_is_a_rollout_of_what_was_here_before() {
        let closed = Memory { closed_at: Some(at(150)), ..remembered() };
        let found = cause_of(Some(&closed), &digest("w1", "wanted"), &digest("f1", "other"), at(200));
        assert_eq!(
            (found.cause, found.newness),
            (Cause::Rollout, Some(Newness::HereBefore { until: at(150) }))
        );
    }

    #[test]
    fn same_wanted_other_found_is_drift_with_its_window() {
        assert_eq!(
            cause(Some(&remembered()), "wanted", "other"),
            "Drift also_drifted=false None Some((100, 200))"
        );
    }

    #[test]
    fn same_wanted_same_found_is_a_target_that_moved() {
        assert_eq!(cause(Some(&remembered()), "wanted", "found"), "TargetMoved also_drifted=false None None");
    }

    #[test]
    fn other_wanted_same_found_is_a_rollout_of_a_change() {
        assert_eq!(
            cause(Some(&remembered()), "other", "found"),
            "Rollout also_drifted=false Some(Changed) None"
        );
    }

    #[test]
    fn other_wanted_other_found_is_a_rollout_that_also_drifted() {
        assert_eq!(
            cause(Some(&remembered()), "other", "other"),
            "Rollout also_drifted=true Some(Changed) Some((100, 200))"
        );
    }

    #[test]
    fn unequal_schemes_are_never_drift() {
        let found = cause_of(Some(&remembered()), &digest("w2", "wanted"), &digest("f1", "other"), at(200));
        assert_eq!(found.cause, Cause::TargetMoved);
    }

    #[test]
    fn the_window_ends_with_the_run_that_found_the_drift_first() {
        let window = |memory: &Memory| {
            cause_of(Some(memory), &digest("w1", "wanted"), &digest("f1", "other"), at(900)).window
        };
        assert_eq!(window(&remembered()), Some(DriftWindow { from: at(100), to: at(900) }));
        let drift = OpenDrift {
            first_found_at: at(200),
            found: digest("f1", "other"),
            found_so_at: at(200),
            kept: false,
        };
        let known = Memory { drift: Some(drift), ..remembered() };
        assert_eq!(window(&known), Some(DriftWindow { from: at(100), to: at(200) }));
    }
}
