//! The present drift of a clause: since when it is as it is, and what was kept of it.

use super::action::Action;
use super::cause::CauseFound;
use super::machine::Run;
use super::memory::OpenDrift;
use super::result::{Failure, Outcome, StoredCopy};
use crate::digest::Digest;
use jiff::Timestamp;

impl Run<'_> {
    /// Notes the present drift, and returns when it was first found as it is now: a further, different change has its own grace.
    pub(super) fn note_drift(
        &mut self,
        at: usize,
        cause: CauseFound,
        found: &Digest,
        now: Timestamp,
    ) -> Timestamp {
        match &mut self.memories[at] {
            Some(memory) if cause.has_drift() => {
                let new =
                    || OpenDrift { first_found_at: now, found: found.clone(), found_so_at: now, kept: false };
                let drift = memory.drift.get_or_insert_with(new);
                if drift.found != *found {
                    (drift.found, drift.found_so_at, drift.kept) = (found.clone(), now, false);
                }
                drift.found_so_at
            }
            Some(memory) => {
                memory.drift = None;
                now
            }
            None => now,
        }
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
