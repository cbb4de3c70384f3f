//! Sweeps that this node was asked for: kept before they are begun, so that none is done twice, and none goes lost with a restart.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_wire::sweep::SweepOffer;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Their file.
const SWEEPS: &str = "sweeps.json";
/// So many that are over are remembered: the server offers one until its report has come.
const MOST_OVER: usize = 100;
/// So many wait at most.
const MOST_WAITING: usize = 20;
/// The sweeps of this node.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Kept {
    waiting: Vec<TakenSweep>,
    /// Those that were begun, refused or let be, the newest last.
    over: Vec<Uuid>,
}

/// A sweep that this node takes part in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakenSweep {
    /// What the server said.
    pub offer: SweepOffer,
    /// Until when it may be begun, by the clock of this node.
    pub until: Timestamp,
}

impl TakenSweep {
    /// Returns where the server is told of it.
    pub fn address(&self, url: &str, what: &str) -> String {
        format!("{url}/sweeps/{}/{what}", self.offer.id)
    }

    /// Returns its number as people write it.
    pub fn name(&self) -> String {
        format!("S{}", self.offer.no)
    }
}

/// Takes what the server offers in place of what waits: what it offers no more was stopped, or is over.
///
/// # Errors
///
/// Returns why it cannot be kept.
pub fn take(state_dir: &StateDir, offers: &[SweepOffer]) -> Result<(), AgentError> {
    let kept = read(state_dir)?;
    if offers.is_empty() && kept.waiting.is_empty() {
        return Ok(());
    }
    let now = state_dir.now();
    let until = |secs: u64| {
        now.checked_add(SignedDuration::from_secs(i64::try_from(secs).unwrap_or(i64::MAX)))
            .unwrap_or(Timestamp::MAX)
    };
    let is_new = |offer: &&SweepOffer| !kept.over.contains(&offer.id);
    let waiting = offers.iter().filter(is_new).take(MOST_WAITING);
    let waiting = waiting.map(|offer| TakenSweep { offer: offer.clone(), until: until(offer.ends_in_secs) });
    write(state_dir, &Kept { waiting: waiting.collect(), over: kept.over.clone() })
}

/// Returns the oldest sweep that waits. Those whose time is over are let be.
///
/// # Errors
///
/// Returns why what is kept cannot be read or written.
pub fn next(state_dir: &StateDir) -> Result<Option<TakenSweep>, AgentError> {
    let now = state_dir.now();
    let mut kept = read(state_dir)?;
    let before = kept.waiting.len();
    kept.waiting.retain(|sweep| sweep.until > now);
    if kept.waiting.len() < before {
        write(state_dir, &kept)?;
    }
    Ok(kept.waiting.into_iter().next())
}

/// Notes that a sweep is not to be begun again: it is begun now, or refused.
///
/// # Errors
///
/// Returns why it cannot be kept; it must not be begun then.
pub fn is_over(state_dir: &StateDir, id: Uuid) -> Result<(), AgentError> {
    let mut kept = read(state_dir)?;
    kept.waiting.retain(|sweep| sweep.offer.id != id);
    kept.over.push(id);
    let too_many = kept.over.len().saturating_sub(MOST_OVER);
    kept.over.drain(..too_many);
    write(state_dir, &kept)
}

fn read(state_dir: &StateDir) -> Result<Kept, AgentError> {
    Ok(state_dir.read_json(SWEEPS)?.unwrap_or_default())
}

fn write(state_dir: &StateDir, kept: &Kept) -> Result<(), AgentError> {
    state_dir.write_json(SWEEPS, kept)
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::run::Mode;
    use constans_core::sweep::SweepOrder;

    fn offer(no: i64) -> SweepOffer {
        SweepOffer {
            id: Uuid::from_u128(no.unsigned_abs().into()),
            no,
            ends_in_secs: 60,
            order: SweepOrder::of(Mode::Observe),
            generation: None,
            observed: None,
            who: "tor.havik".to_owned(),
            because: "the gates were rebuilt".to_owned(),
        }
    }

    fn state_dir() -> (tempfile::TempDir, StateDir) {
        let folder = tempfile::tempdir().unwrap();
        let state_dir = StateDir::open(folder.path()).unwrap();
        (folder, state_dir)
    }

    #[test]
    fn a_sweep_is_begun_once_however_often_it_is_offered() {
        let (_folder, state_dir) = state_dir();
        take(&state_dir, &[offer(1), offer(2)]).unwrap();
        let first = next(&state_dir).unwrap().unwrap();
        assert_eq!(first.name(), "S1");
        is_over(&state_dir, first.offer.id).unwrap();
        // Its report has not come to the server yet.
        take(&state_dir, &[offer(1), offer(2)]).unwrap();
        assert_eq!(next(&state_dir).unwrap().unwrap().name(), "S2");
        // It was stopped meanwhile.
        take(&state_dir, &[offer(1)]).unwrap();
        assert_eq!(next(&state_dir).unwrap(), None);
    }

    #[test]
    fn a_sweep_whose_time_is_over_is_let_be_and_few_are_remembered() {
        let (_folder, state_dir) = state_dir();
        take(&state_dir, &[SweepOffer { ends_in_secs: 0, ..offer(1) }, offer(2)]).unwrap();
        assert_eq!(next(&state_dir).unwrap().unwrap().name(), "S2");
        for no in 0..300 {
            is_over(&state_dir, offer(no).id).unwrap();
        }
        let kept = read(&state_dir).unwrap();
        assert_eq!((kept.over.len(), kept.over.last()), (MOST_OVER, Some(&offer(299).id)));
        take(&state_dir, &(1_000..1_100).map(offer).collect::<Vec<_>>()).unwrap();
        assert_eq!(read(&state_dir).unwrap().waiting.len(), MOST_WAITING);
    }
}
