//! Due reactions: set off, and not yet succeeded.

use crate::address::ClauseAddress;
use crate::digest::Digest;
use crate::kind::Reaction;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A reaction that was set off. It is written to durable memory before the change that sets it off.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DueReaction {
    /// The clause that reacts.
    pub target: ClauseAddress,
    /// What is to be done.
    pub reaction: Reaction,
    /// What set it off.
    pub causes: Vec<DueCause>,
    /// Since when.
    pub since: Timestamp,
    /// How often it was tried and failed.
    #[serde(default)]
    pub attempts: u32,
    /// The state under which it was last tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tried_under: Option<Digest>,
}

/// One change that set a reaction off, or is about to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DueCause {
    /// The clause that was corrected.
    pub address: ClauseAddress,
    /// What was found of it before the change.
    pub found_before: Digest,
    /// Whether the change is known to have happened; until then it may have been cut off before.
    #[serde(default)]
    pub happened: bool,
}

/// After this many failures a reaction is tried only under a new state or on demand.
pub(super) const MAX_ATTEMPTS: u32 = 3;

impl DueReaction {
    /// Returns whether it is tried in a run under this state.
    pub(super) fn is_tried(&self, state: &Digest, on_demand: bool) -> bool {
        self.attempts < MAX_ATTEMPTS || on_demand || self.tried_under.as_ref() != Some(state)
    }

    /// Adds a change; a stronger reaction replaces a weaker one.
    pub(super) fn set_off(
        due: &mut Vec<DueReaction>,
        target: &ClauseAddress,
        reaction: Reaction,
        cause: DueCause,
        now: Timestamp,
    ) {
        let Some(known) = due.iter_mut().find(|known| known.target == *target) else {
            due.push(Self {
                target: target.clone(),
                reaction,
                causes: vec![cause],
                since: now,
                attempts: 0,
                tried_under: None,
            });
            return;
        };
        known.reaction = known.reaction.max(reaction);
        match known.causes.iter_mut().find(|known| known.address == cause.address) {
            // A change that is known to have happened stays so, whatever comes after it.
            Some(known) if known.happened => {}
            Some(known) => *known = cause,
            None => known.causes.push(cause),
        }
    }
}
