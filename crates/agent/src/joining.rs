//! The request to join that an operator has not decided on yet.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_wire::join::Invitation;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A request that an operator has not decided on yet. It is kept, so that a daemon or a later command goes on asking; the invitation's
/// secret with it, readable for root only, until it is decided.
#[derive(Serialize, Deserialize)]
pub struct Joining {
    /// The invitation that it came with.
    pub invitation: Invitation,
    /// The name that it asks to have.
    pub name: String,
    /// The fingerprint of the key, to be compared by eye.
    pub fingerprint: String,
    /// Since when it waits.
    pub since: Timestamp,
}

/// The file that it is kept in.
const JOINING: &str = "joining.json";

impl Joining {
    /// Returns the request that waits, if one does.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json(JOINING)
    }

    /// Keeps it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json(JOINING, self)
    }

    /// Forgets what was decided, and the invitation's secret with it.
    pub fn forget(state_dir: &StateDir) {
        state_dir.remove(JOINING);
    }
}
