//! Errors of the client, with exit codes and hints.

use constans_core::group::GroupFinding;
use constans_link::LinkError;
use constans_terminal::harmless;
use constans_wire::exit::Exit;

/// Why a command that needs the server did not do what it was asked.
pub struct ClientError {
    pub(crate) message: String,
    hint: Option<String>,
    exit: Exit,
    missing: bool,
    unconfirmed: Option<i64>,
    findings: Vec<GroupFinding>,
}

impl ClientError {
    /// Returns an error with what to do.
    pub fn new(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self {
            message: message.into(),
            hint: Some(hint.into()),
            exit: Exit::Error,
            missing: false,
            unconfirmed: None,
            findings: Vec::new(),
        }
    }
}

impl ClientError {
    /// Says with which exit code the program ends.
    #[must_use]
    pub fn ending_as(mut self, exit: Exit) -> Self {
        self.exit = exit;
        self
    }

    /// Says that a person declined.
    #[must_use]
    pub fn declined(mut self) -> Self {
        self.exit = Exit::Refused;
        self
    }

    /// Says it, with what to do, and returns how the program ends.
    pub fn say(&self) -> Exit {
        anstream::eprintln!("error: {}", self.message);
        if let Some(hint) = &self.hint {
            anstream::eprintln!("hint: {hint}");
        }
        self.exit
    }

    /// Says what was found in a group's document with the lines marked, if that is why.
    #[must_use]
    pub fn in_document(mut self, file: &str, text: &str) -> Self {
        if !self.findings.is_empty() {
            let found: Vec<String> =
                self.findings.iter().map(|finding| finding.explain(file, text)).collect();
            let title = self.message.lines().next().unwrap_or_default().to_owned();
            self.message = format!("{title}\n\n{}", harmless_lines(&found.join("\n")));
        }
        self
    }

    /// Returns what was found in a group.
    pub fn findings(&self) -> &[GroupFinding] {
        &self.findings
    }

    /// Returns the change that waits for confirmation, if that is why.
    pub fn unconfirmed_change(&self) -> Option<i64> {
        self.unconfirmed
    }

    /// Returns whether it is that something is not permitted.
    pub fn is_not_permitted(&self) -> bool {
        self.exit == Exit::Refused
    }

    /// Returns whether it is that something is not there.
    pub fn is_missing(&self) -> bool {
        self.missing
    }
}

/// Returns a text of several lines that is harmless on a terminal.
pub fn harmless_lines(text: &str) -> String {
    text.lines().map(|line| harmless(line) + "\n").collect()
}

impl From<LinkError> for ClientError {
    fn from(error: LinkError) -> Self {
        let exit = if let LinkError::Refused(problem) = &error {
            Exit::of_answer(problem.status)
        } else {
            Exit::Error
        };
        let detail = if let LinkError::Refused(problem) = &error {
            problem.detail.as_ref().map(|detail| format!("\n\n{detail}"))
        } else {
            None
        };
        let missing = matches!(&error, LinkError::Refused(problem) if problem.kind == "missing");
        let hint = error.hint();
        let message = format!("{error}{}", detail.unwrap_or_default());
        let (unconfirmed, findings) = if let LinkError::Refused(problem) = error {
            (problem.change, problem.findings)
        } else {
            (None, Vec::new())
        };
        Self { message, hint, exit, missing, unconfirmed, findings }
    }
}
