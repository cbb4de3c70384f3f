//! Freezes that this node holds, apart from its desired state.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_core::run::Freeze;
use constans_wire::check_in::{FreezeOffer, HeldFreezes};
use jiff::{SignedDuration, Timestamp};

/// Their file.
const FREEZES: &str = "freezes.json";

/// Holds none any more: the server refuses this node.
pub fn forget(state_dir: &StateDir) {
    state_dir.remove(FREEZES);
}

/// Returns what this node holds, also what is over.
///
/// # Errors
///
/// Returns why it cannot be read.
pub fn held(state_dir: &StateDir) -> Result<Option<HeldFreezes>, AgentError> {
    state_dir.read_json(FREEZES)
}

/// Returns the freezes that are in force.
///
/// # Errors
///
/// Returns why they cannot be read.
pub fn in_force(state_dir: &StateDir, now: Timestamp) -> Result<Vec<Freeze>, AgentError> {
    let held = held(state_dir)?.map(|held| held.freezes).unwrap_or_default();
    Ok(held.into_iter().filter(|freeze| freeze.until > now).collect())
}

/// Holds what is in force by the server, in place of what was held; unless that is newer, as after the server's database was
/// restored: then what is held stays.
///
/// # Errors
///
/// Returns why it cannot be kept.
pub fn hold(state_dir: &StateDir, offer: &FreezeOffer) -> Result<(), AgentError> {
    let now = state_dir.now();
    if held(state_dir)?.is_some_and(|held| held.generation > offer.generation) {
        return Ok(());
    }
    let until = |secs: u64| {
        now.checked_add(SignedDuration::from_secs(i64::try_from(secs).unwrap_or(i64::MAX)))
            .unwrap_or(Timestamp::MAX)
    };
    let freezes = offer.freezes.iter().map(|freeze| Freeze {
        no: freeze.no,
        until: until(freeze.for_secs),
        because: freeze.because.clone(),
        clauses: freeze.clauses.clone(),
    });
    state_dir.write_json(
        FREEZES,
        &HeldFreezes {
            generation: offer.generation,
            digest: offer.digest.clone(),
            freezes: freezes.collect(),
        },
    )
}
