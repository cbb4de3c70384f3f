//! Check-ins of agents, nodes as operators see them, and errors.

use constans_core::filter::About;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// What an agent says when it contacts the server.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CheckIn {
    /// The version of the agent.
    pub agent: String,
    /// The node's clock.
    pub now: Timestamp,
    /// In how many seconds it comes next.
    pub next_in_secs: u64,
    /// What it found out about its node.
    pub about: About,
}

/// What the server answers.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CheckInAnswer {
    /// The node's name.
    pub name: String,
    /// The server's clock.
    pub now: Timestamp,
}

/// What the server says to anybody who asks: for finding out why a node cannot be heard.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Greeting {
    /// The server's version.
    pub server: String,
    /// The server's clock.
    pub now: Timestamp,
}

/// A node as operators see it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct NodeSummary {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// What it found out about itself.
    pub about: About,
    /// When it was heard last.
    pub last_heard: Option<Timestamp>,
    /// When it promised to come next.
    pub promised: Option<Timestamp>,
    /// The node's clock minus the server's at the last check-in, in seconds.
    pub clock_off_secs: Option<i64>,
    /// Whether it was heard when it promised.
    pub hearing: Hearing,
    /// Since when it is refused.
    pub revoked_at: Option<Timestamp>,
    /// Until when its certificate holds.
    pub certificate_ends: Option<Timestamp>,
}

/// Whether a node was heard when it promised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Hearing {
    /// It was.
    OnTime,
    /// It is past its promise.
    Late,
    /// It is past the cut-off.
    Silent,
    /// It never was.
    NeverReported,
}

/// An error as `application/problem+json` (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// A stable word for it.
    #[serde(rename = "type")]
    pub kind: String,
    /// One fact.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
}
