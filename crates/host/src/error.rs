//! Errors on a node, with what helps to fix them.

use constans_core::run::{Failure, FailureAt, NativeStep};
use std::io;

/// Something on the node could not be read or done.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct HostError {
    /// What happened, in one sentence.
    pub message: String,
    /// The native command, if there was one.
    pub command: Option<NativeStep>,
    /// The likely cause and what to do.
    pub remedy: Option<String>,
}

impl HostError {
    /// Returns an error that is one fact.
    pub fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), command: None, remedy: None }
    }

    /// Returns an error of a system call about a path.
    pub fn io(doing: &str, path: &str, error: &io::Error) -> Self {
        let remedy = match error.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
            Some(rustix::io::Errno::NOSPC) => {
                Some("the disk is full: free space; the old contents are intact")
            }
            Some(rustix::io::Errno::ROFS) => {
                Some("the file system is mounted read-only: mount it read-write, or remove the clause")
            }
            Some(rustix::io::Errno::PERM) => {
                Some("the file may be immutable (lsattr shows an `i`): chattr -i lets it be changed")
            }
            Some(rustix::io::Errno::ACCESS) => Some("the agent's account may not do this: run it as root"),
            Some(rustix::io::Errno::BUSY) => Some(
                "something is mounted at this path (findmnt says what), or uses it: a mount point cannot be replaced",
            ),
            Some(rustix::io::Errno::IO) => {
                Some("the disk or its driver reports a fault: the kernel's log (dmesg) says which")
            }
            Some(rustix::io::Errno::DQUOT) => Some("the quota is used up"),
            _ => None,
        };
        Self {
            message: format!("cannot {doing} {path}: {}", plain_io(error)),
            command: None,
            remedy: remedy.map(str::to_owned),
        }
    }

    /// Adds the native command.
    #[must_use]
    pub fn command(mut self, command: NativeStep) -> Self {
        self.command = Some(command);
        self
    }

    /// Adds what to do.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// Returns the failure that a run reports.
    pub fn failure(self, at: FailureAt) -> Failure {
        Failure { at, message: self.message, command: self.command, remedy: self.remedy }
    }
}

/// Returns an error's words without the number in brackets.
fn plain_io(error: &io::Error) -> String {
    let text = error.to_string();
    match text.find(" (os error") {
        Some(at) => text[..at].to_lowercase(),
        None => text,
    }
}

/// Why a thing could not be described.
#[derive(Debug)]
pub enum CannotDescribe {
    /// This kind has no things that could be listed or looked up by name, and what to do instead.
    NotOfThisKind(String),
    /// This node has no means to see it, and why.
    Unsupported(String),
    /// It could not be read.
    Failed(HostError),
}

impl From<HostError> for CannotDescribe {
    fn from(error: HostError) -> Self {
        Self::Failed(error)
    }
}
