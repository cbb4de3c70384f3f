//! How the server is: its parts, its certificates, and the agents of its nodes.

use crate::agent_package::AgentPackage;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How the server is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerStatus {
    /// The server's clock.
    pub now: Timestamp,
    /// Its version.
    pub version: String,
    /// Since when this process runs.
    pub started_at: Timestamp,
    /// Number of nodes that it is sized for: its machine and PostgreSQL are compared with that.
    pub expected_nodes: u64,
    /// Number of nodes of the fleet.
    pub nodes: u64,
    /// Since when it is recovering from a restored database, if it is.
    pub recovering_since: Option<Timestamp>,
    /// Its parts, those that are not well first.
    pub parts: Vec<ServerPart>,
    /// The certificates that it shows.
    pub certificates: Vec<ServerCertificate>,
    /// The versions of the agents, the newest first.
    pub agents: Vec<AgentVersion>,
    /// The packages of the agent that it serves.
    pub packages: Vec<AgentPackage>,
}

impl ServerStatus {
    /// Returns how many parts and certificates are not well.
    pub fn not_well(&self) -> usize {
        self.parts.iter().filter(|part| part.remedy.is_some()).count()
            + self.certificates.iter().filter(|one| one.problem.is_some()).count()
    }
}

/// A part of the server, or of what it needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerPart {
    /// Which.
    pub name: String,
    /// How it is.
    pub found: String,
    /// What to do; none if it is well.
    pub remedy: Option<String>,
}

/// A certificate that the server shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerCertificate {
    /// Whom it is shown: `agents` or `people`.
    pub shown_to: String,
    /// End of its validity.
    pub ends_at: Timestamp,
    /// What is wrong with it, and what to do.
    pub problem: Option<String>,
}

/// A version of the agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AgentVersion {
    /// The version; none of nodes that never checked in.
    pub version: Option<String>,
    /// How many nodes have it.
    pub nodes: u64,
}
