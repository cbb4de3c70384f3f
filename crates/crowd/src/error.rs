//! Errors of the crowd.

use constans_agent::error::AgentError;
use constans_link::LinkError;

/// Why a crowd does not go on.
#[derive(Debug, thiserror::Error)]
pub enum CrowdError {
    /// The operator's interface refused, or was not reached.
    #[error("the server's interface for people: {0}")]
    Operator(#[from] LinkError),
    /// A simulated node could not be made.
    #[error("{node}: {}", .because.message)]
    Node {
        /// Its name.
        node: String,
        /// Why.
        because: Box<AgentError>,
    },
    /// An operator denied a node, or it was not approved though the crowd's operator approves all.
    #[error("{node} did not join: {because}")]
    NotJoined {
        /// Its name.
        node: String,
        /// Why.
        because: String,
    },
    /// The truth or the clock could not be written.
    #[error("{what} cannot be written")]
    File {
        /// What.
        what: String,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// The nodes that were kept cannot be read.
    #[error("{} cannot be read", .path.display())]
    Kept {
        /// Where they are.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// A node's task broke off.
    #[error("a node's task broke off: {0}")]
    Task(#[from] tokio::task::JoinError),
}
