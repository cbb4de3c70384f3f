//! What the agent remembers of each address: what was wanted and found when it was last alike.

use crate::address::ClauseAddress;
use crate::compare::{FOUND_SCHEME, Found, FoundValue, Presence};
use crate::digest::Digest;
use crate::kind::Matcher;
use crate::kit::Gone;
use crate::state::{Clause, Compared};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What is remembered of one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Memory {
    /// The wanted digest when it was last alike; none if it never was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alike: Option<LastInLine>,
    /// The present drift, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drift: Option<OpenDrift>,
    /// When a run last corrected it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed_at: Option<Timestamp>,
    /// When a run last started it or carried out its reaction: what was changed before it has taken up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_up_at: Option<Timestamp>,
    /// When a complete state without the address was taken over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed_at: Option<Timestamp>,
}

/// The moment at which a clause was last alike.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LastInLine {
    /// The wanted digest at that moment.
    pub wanted: Digest,
    /// The found digest at that moment.
    pub found: Digest,
    /// The moment of that inspection, by the node's clock.
    pub at: Timestamp,
}

/// A drift that was found and not yet put right.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpenDrift {
    /// The first run that found it, in any mode.
    pub first_found_at: Timestamp,
    /// The found digest of what it is now.
    pub found: Digest,
    /// The first run that found it as it is now: grace counts from here, so that each further edit has its own.
    pub found_so_at: Timestamp,
    /// Whether it was kept as it is now, so that a further edit takes nothing away for good.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub kept: bool,
}

/// The memories of all addresses, each once; their order says nothing.
pub type Memories = Vec<(ClauseAddress, Memory)>;

impl Memory {
    /// Returns the digest of what was found alike, if it is known without computing it: where every property has the very
    /// value that is wanted, it is the one that was remembered when the same was wanted.
    pub(super) fn found_when_alike(
        &self,
        compared: &[Compared<'_>],
        clause: &Clause,
        found: &Found,
    ) -> Option<&Digest> {
        let alike = self
            .alike
            .as_ref()
            .filter(|alike| alike.wanted == clause.wanted && alike.found.scheme() == FOUND_SCHEME)?;
        let is_the_wanted_value = |(name, wanted, matcher): &Compared<'_>| {
            *matcher == Matcher::Equal
                && matches!(found.get(name), Some(FoundValue::Value(value)) if *value == **wanted)
        };
        let is_so = clause.gone == Gone::No
            && found.presence == Presence::Present
            && compared.iter().all(is_the_wanted_value);
        is_so.then_some(&alike.found)
    }

    /// Returns the memory of a clause that was just found alike.
    pub fn alike(wanted: Digest, found: Digest, at: Timestamp) -> Self {
        Self {
            alike: Some(LastInLine { wanted, found, at }),
            drift: None,
            changed_at: None,
            taken_up_at: None,
            closed_at: None,
        }
    }

    /// Returns the memory of a clause that was just corrected, and started if it is a service.
    pub(super) fn corrected(
        before: Option<&Self>,
        wanted: Digest,
        found: Digest,
        was_started: bool,
        now: Timestamp,
    ) -> Self {
        let taken_up_at = if was_started { Some(now) } else { before.and_then(|before| before.taken_up_at) };
        Self { changed_at: Some(now), taken_up_at, ..Self::alike(wanted, found, now) }
    }

    /// Takes in that the clause was found alike; returns whether it was so for the first time.
    pub(super) fn was_alike(&mut self, wanted: &Digest, found: &Digest, now: Timestamp) -> bool {
        match &mut self.alike {
            Some(alike) if alike.wanted == *wanted && alike.found == *found => {
                alike.at = now;
                (self.drift, self.closed_at) = (None, None);
                false
            }
            _ => {
                let alike = Self {
                    changed_at: self.changed_at,
                    taken_up_at: self.taken_up_at,
                    ..Self::alike(wanted.clone(), found.clone(), now)
                };
                std::mem::replace(self, alike).alike.is_none()
            }
        }
    }
}
