//! The exit codes of all commands: one table.

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Exit {
    /// Success.
    Well = 0,
    /// What was asked for could not be done, or a check found errors.
    Error = 1,
    /// Wrong usage.
    Usage = 2,
    /// Not permitted, or a person declined.
    Refused = 3,
    /// Out of line: drift found, unmet or rollout waiting.
    OutOfLine = 4,
    /// A clause failed.
    Failed = 5,
    /// Some clauses could not be examined.
    NotAllSeen = 6,
    /// Another run is going on.
    Busy = 7,
}

impl Exit {
    /// All of them with their meaning, for the documentation.
    pub const TABLE: &[(Self, &'static str)] = &[
        (Self::Well, "success: done, in line, corrected, or checked without errors"),
        (Self::Error, "the command failed, or a check found errors"),
        (Self::Usage, "wrong usage: the command line could not be parsed"),
        (Self::Refused, "refused: not permitted, or a person declined"),
        (Self::OutOfLine, "out of line: drift found, needs a person, or rollout waiting"),
        (Self::Failed, "a clause failed"),
        (Self::NotAllSeen, "partly unsupported: some clauses could not be examined"),
        (Self::Busy, "another run is in progress"),
    ];

    /// Returns the code.
    pub fn code(self) -> u8 {
        self as u8
    }

    /// Returns the exit code of a command that a server answered with this HTTP status: not permitted is one thing, and what cannot be
    /// done or is wrong another.
    pub fn of_answer(status: u16) -> Self {
        if matches!(status, 401 | 403) { Self::Refused } else { Self::Error }
    }

    /// Returns the exit code of a run with this status.
    pub fn of_status(status: constans_core::run::Status) -> Self {
        use constans_core::run::Status;
        match status {
            Status::Failed => Self::Failed,
            Status::DriftFound | Status::Unmet | Status::RolloutWaiting => Self::OutOfLine,
            Status::NotAllSeen => Self::NotAllSeen,
            Status::DriftCorrected | Status::RolledOut | Status::InLine => Self::Well,
        }
    }
}

impl From<Exit> for std::process::ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
