//! The present drift of a clause: since when it is as it is, and what was kept of it.

use super::action::Action;
use super::cause::{CauseFound, DriftWindow};
use super::machine::Run;
use super::memory::OpenDrift;
use super::related::RelatedRecords;
use super::result::{Failure, Outcome, StoredCopy};
use crate::compare::Difference;
use crate::digest::Digest;
use jiff::Timestamp;

/// What is known of a drift after it was noted.
pub(super) struct NotedDrift {
    /// When it was first found as it is now: a further, different change has its own grace.
    pub found_so_at: Timestamp,
    /// The time in which it happened, if this run is the first that found it as it is now.
    pub new_window: Option<DriftWindow>,
}

impl Run<'_> {
    /// Notes the present drift.
    pub(super) fn note_drift(
        &mut self,
        at: usize,
        cause: CauseFound,
        found: &Digest,
        now: Timestamp,
    ) -> NotedDrift {
        let nothing_new = |found_so_at| NotedDrift { found_so_at, new_window: None };
        match &mut self.memories[at] {
            Some(memory) if cause.has_drift() => match &mut memory.drift {
                Some(drift) if drift.found == *found => nothing_new(drift.found_so_at),
                known => {
                    // Since it was found as it was before, or since it was last in line.
                    let from = known
                        .as_ref()
                        .map(|drift| drift.found_so_at)
                        .or(cause.window.map(|window| window.from));
                    let first_found_at = known.as_ref().map_or(now, |drift| drift.first_found_at);
                    *known = Some(OpenDrift {
                        first_found_at,
                        found: found.clone(),
                        found_so_at: now,
                        kept: false,
                    });
                    NotedDrift {
                        found_so_at: now,
                        new_window: from.map(|from| DriftWindow { from, to: now }),
                    }
                }
            },
            Some(memory) => {
                memory.drift = None;
                nothing_new(now)
            }
            None => nothing_new(now),
        }
    }

    /// Takes in what is related to a drift, and acts.
    pub(super) fn gathered(
        &mut self,
        at: usize,
        different: Vec<Difference>,
        related: RelatedRecords,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        let result = self.result(at);
        result.took_us += took_us;
        result.related = Some(Box::new(related));
        let found = result.found.clone();
        found.map_or_else(Vec::new, |found| self.act(at, different, &found, now))
    }

    /// Returns whether a drift that is left for its grace was not kept yet as it is now: someone may change it again.
    pub(super) fn is_to_be_kept(&self, at: usize) -> bool {
        self.memories[at].as_ref().and_then(|memory| memory.drift.as_ref()).is_some_and(|drift| !drift.kept)
    }

    pub(super) fn was_kept(
        &mut self,
        at: usize,
        kept: Result<Vec<StoredCopy>, Failure>,
        took_us: u64,
        now: Timestamp,
    ) -> Vec<Action> {
        let result = self.result(at);
        result.took_us += took_us;
        match kept {
            Ok(kept) => {
                result.kept = kept;
                if let Some(drift) = self.memories[at].as_mut().and_then(|memory| memory.drift.as_mut()) {
                    drift.kept = true;
                }
            }
            Err(failure) => {
                result.outcome = Outcome::Failed;
                result.failure = Some(failure);
            }
        }
        self.react_or_go_on(at, now)
    }
}
