//! What keeps the agent from doing what it was asked, and the exit code that says so.

use constans_wire::exit::Exit;

/// Why the agent did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[error("{message}")]
pub struct AgentError {
    /// One fact.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// The exit code.
    pub exit: Exit,
}

impl AgentError {
    /// Returns an error.
    pub fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), hint: None, exit: Exit::Error }
    }

    /// Adds what to do.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// Adds another fact to the message.
    #[must_use]
    pub fn noting(mut self, fact: &str) -> Self {
        self.message = format!("{}; {fact}", self.message);
        self
    }

    /// Sets the exit code.
    #[must_use]
    pub fn exit(mut self, exit: Exit) -> Self {
        self.exit = exit;
        self
    }

    /// Returns an error about a file of the agent's own.
    pub fn own_file(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        Self::new(format!("cannot {doing} {}: {error}", path.display()))
            .hint("the agent keeps its memory there: run it as the account that owns it, or name another folder with --state-dir")
    }
}

impl From<constans_host::HostError> for AgentError {
    fn from(error: constans_host::HostError) -> Self {
        Self { message: error.message, hint: error.remedy, exit: Exit::Error }
    }
}
