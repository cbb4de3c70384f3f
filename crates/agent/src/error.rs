//! Errors of the agent, with exit codes and hints.

use constans_link::LinkError;
use constans_wire::check_in::{RETIRED, REVOKED};
use constans_wire::exit::Exit;

/// Why the agent did not do what it was asked.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct AgentError {
    /// What happened, in one sentence.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// The exit code.
    pub exit: Exit,
    /// What it shows of the server.
    pub server: ServerSeen,
}

/// What a failure shows of the server.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum ServerSeen {
    /// Nothing: it is not about the server, or it was not asked.
    #[default]
    Nothing,
    /// It does not answer, or not as the server that it should be.
    Away,
    /// It answers, whatever the answer: it is reachable.
    Answering,
    /// It answers explicitly that this node is revoked.
    Revoking,
    /// It answers explicitly that this node is retired.
    Retiring,
}

impl ServerSeen {
    /// Returns whether the server refuses this node.
    pub fn is_dismissal(self) -> bool {
        matches!(self, Self::Revoking | Self::Retiring)
    }
}

impl AgentError {
    /// Returns an error.
    pub fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), hint: None, exit: Exit::Error, server: ServerSeen::Nothing }
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

    /// Says first what could not be done.
    #[must_use]
    pub fn about(mut self, what: &str) -> Self {
        self.message = format!("{what}: {}", self.message);
        self
    }

    /// Says what it shows of the server.
    #[must_use]
    pub fn seen(mut self, server: ServerSeen) -> Self {
        self.server = server;
        self
    }

    /// Sets the exit code.
    #[must_use]
    pub fn exit(mut self, exit: Exit) -> Self {
        self.exit = exit;
        self
    }

    /// Returns the error in one line, with what to do.
    pub fn line(&self) -> String {
        let hint = self.hint.as_ref().map(|hint| format!(" ({hint})")).unwrap_or_default();
        format!("{}{hint}", self.message.trim_end())
    }

    /// Returns an error about a file of the agent's own.
    pub fn own_file(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        Self::new(format!("cannot {doing} {}: {error}", path.display()))
            .hint("the agent keeps its state there: run it as the owner of the folder, or choose another one with --state-dir")
    }
}

impl From<constans_host::HostError> for AgentError {
    fn from(error: constans_host::HostError) -> Self {
        Self { message: error.message, hint: error.remedy, exit: Exit::Error, server: ServerSeen::Nothing }
    }
}

impl From<LinkError> for AgentError {
    fn from(error: LinkError) -> Self {
        let server = match &error {
            LinkError::Refused(problem) if problem.kind == REVOKED => ServerSeen::Revoking,
            LinkError::Refused(problem) if problem.kind == RETIRED => ServerSeen::Retiring,
            LinkError::Refused(_) | LinkError::Strange { .. } => ServerSeen::Answering,
            LinkError::NotReached { .. } | LinkError::Tls(_) | LinkError::WrongAuthority { .. } => {
                ServerSeen::Away
            }
            LinkError::NoFingerprint(_) | LinkError::Identity | LinkError::Apart(_) => ServerSeen::Nothing,
        };
        let exit = if let LinkError::Refused(problem) = &error {
            Exit::of_answer(problem.status)
        } else {
            Exit::Error
        };
        Self { message: error.to_string(), hint: error.hint(), exit, server }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_wire::check_in::Problem;

    #[test]
    fn only_a_server_that_says_so_dismisses_a_node() {
        let refused = |kind: &str, status| {
            LinkError::Refused(Problem {
                kind: kind.to_owned(),
                title: String::new(),
                status,
                hint: None,
                detail: None,
                change: None,
                findings: Vec::new(),
            })
        };
        let away = || LinkError::NotReached { url: String::new(), because: String::new() };
        for (error, seen) in [
            (refused("revoked", 403), ServerSeen::Revoking),
            (refused("retired", 403), ServerSeen::Retiring),
            (refused("unknown_caller", 401), ServerSeen::Answering),
            (refused("missing", 404), ServerSeen::Answering),
            (refused("invalid", 422), ServerSeen::Answering),
            (refused("database", 503), ServerSeen::Answering),
            (
                LinkError::Strange { url: String::new(), because: "status 502".to_owned() },
                ServerSeen::Answering,
            ),
            (away(), ServerSeen::Away),
            (LinkError::Apart("ended".to_owned()), ServerSeen::Nothing),
        ] {
            let words = format!("{error:?}");
            assert_eq!(AgentError::from(error).server, seen, "{words}");
        }
    }
}
