//! What the agent remembers of each address: what was wanted and found when it was last alike.

use crate::address::ClauseAddress;
use crate::digest::Digest;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What is remembered of one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Memory {
    /// The wanted digest when it was last alike; none if it never was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alike: Option<Alike>,
    /// The first run that found the present drift, in any mode. Grace counts from here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drift_found_at: Option<Timestamp>,
    /// When a complete state without the address was taken over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed_at: Option<Timestamp>,
}

/// The moment at which a clause was last alike.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alike {
    /// The wanted digest at that moment.
    pub wanted: Digest,
    /// The found digest at that moment.
    pub found: Digest,
    /// The moment of that inspection, by the node's clock.
    pub at: Timestamp,
}

/// The memories of all addresses.
pub type Memories = BTreeMap<ClauseAddress, Memory>;

impl Memory {
    /// Returns the memory of a clause that was just found alike.
    pub fn alike(wanted: Digest, found: Digest, at: Timestamp) -> Self {
        Self { alike: Some(Alike { wanted, found, at }), drift_found_at: None, closed_at: None }
    }
}
