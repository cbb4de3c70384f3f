//! The exit codes of all commands: one table.

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Exit {
    /// All is well.
    Well = 0,
    /// What was asked for could not be done, or a check found errors.
    Error = 1,
    /// The command line is not understood.
    Usage = 2,
    /// Not allowed, or a person said no.
    Refused = 3,
    /// Something is out of line: drift found, unmet or rollout waiting.
    OutOfLine = 4,
    /// A clause failed.
    Failed = 5,
    /// Not everything could be seen.
    NotAllSeen = 6,
    /// Another run is going on.
    Busy = 7,
}

impl Exit {
    /// All of them with their meaning, for the documentation.
    pub const TABLE: &[(Self, &'static str)] = &[
        (Self::Well, "all is well: done, in line, corrected, or checked without errors"),
        (Self::Error, "what was asked for could not be done, or a check found errors"),
        (Self::Usage, "the command line is not understood"),
        (Self::Refused, "not allowed, or a person said no"),
        (Self::OutOfLine, "something is out of line: drift found, unmet or rollout waiting"),
        (Self::Failed, "a clause failed"),
        (Self::NotAllSeen, "not everything could be seen"),
        (Self::Busy, "another run is going on"),
    ];

    /// Returns the code.
    pub fn code(self) -> u8 {
        self as u8
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
