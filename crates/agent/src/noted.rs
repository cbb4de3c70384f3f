//! Notes of the daemon for `constans-agent status` and for its next start.

use crate::error::AgentError;
use crate::state_dir::StateDir;
use constans_core::run::RestartPending;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How a daemon is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct DaemonNote {
    /// Its process.
    pub pid: u32,
    /// Since when it goes on.
    pub since: Timestamp,
    /// When it checks in next.
    pub next_check_in: Timestamp,
    /// When it runs next.
    pub next_run: Timestamp,
    /// What it waits for, if the next run is for that.
    pub next_run_for: Option<String>,
    /// How often in a row no server answered.
    pub unanswered: u32,
    /// The server that answered last, and when.
    pub contact: Option<Contact>,
    /// The restart that is pending, and what is due about it.
    pub restart: Option<RestartNote>,
    /// Why the server cannot have it check in at once, if it cannot.
    #[serde(default)]
    pub not_wakeable: Option<String>,
}

/// A server that answered.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Contact {
    /// Which.
    pub url: String,
    /// When.
    pub at: Timestamp,
}

/// A pending restart.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RestartNote {
    /// What is pending.
    pub pending: RestartPending,
    /// What is due about it, in words.
    pub due: String,
}

/// What outlasts a restart of the node.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct StartNote {
    /// The id of the start that the daemon went on in.
    pub boot_id: Option<String>,
    /// What the agent restarted the node for, until that is no longer pending.
    pub restarted_for: Option<RestartPending>,
}

impl DaemonNote {
    /// Returns what a daemon noted last.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json("daemon.json")
    }

    /// Keeps it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json("daemon.json", self)
    }

    /// Returns whether that daemon is there still.
    pub fn is_alive(&self) -> bool {
        let command = std::fs::read(format!("/proc/{}/cmdline", self.pid)).unwrap_or_default();
        command.split(|byte| *byte == 0).any(|word| word == b"daemon")
    }
}

impl StartNote {
    /// Returns what was noted before.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Self, AgentError> {
        Ok(state_dir.read_json("start.json")?.unwrap_or_default())
    }

    /// Keeps it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be kept.
    pub fn keep(&self, state_dir: &StateDir) -> Result<(), AgentError> {
        state_dir.write_json("start.json", self)
    }
}
