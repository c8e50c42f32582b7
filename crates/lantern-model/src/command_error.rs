//! Why a command or a batch of input failed.

use std::fmt;

use crate::Value;

/// Result of a command or a batch of input: a value for commands that ask for one.
pub type CommandResult = Result<Option<Value>, CommandError>;

/// What sort of failure it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum CommandErrorKind {
    /// No window, program, device or content of that name.
    NotFound,
    /// The back end, the compositor or this build lacks it.
    Unsupported,
    /// A service, a device or the display cannot be reached.
    Unavailable,
    /// The other side did not react in time.
    TimedOut,
    /// A limit, another command or the other side forbids it.
    Refused,
    /// The other side reported an error, or ended with one.
    Failed,
}

impl CommandErrorKind {
    /// The kind as a word of JSON output: `not-found`, `timed-out`.
    pub fn word(self) -> &'static str {
        match self {
            CommandErrorKind::NotFound => "not-found",
            CommandErrorKind::Unsupported => "unsupported",
            CommandErrorKind::Unavailable => "unavailable",
            CommandErrorKind::TimedOut => "timed-out",
            CommandErrorKind::Refused => "refused",
            CommandErrorKind::Failed => "failed",
        }
    }
}

/// Failure of a command or of a batch of input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommandError {
    /// The sort of failure, for programs.
    pub kind: CommandErrorKind,
    /// What happened and what to do, for people; one line.
    pub detail: String,
}

impl CommandError {
    /// An error of kind [`CommandErrorKind::NotFound`].
    pub fn not_found(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::NotFound, detail: detail.into() }
    }

    /// An error of kind [`CommandErrorKind::Unsupported`].
    pub fn unsupported(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::Unsupported, detail: detail.into() }
    }

    /// An error of kind [`CommandErrorKind::Unavailable`].
    pub fn unavailable(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::Unavailable, detail: detail.into() }
    }

    /// An error of kind [`CommandErrorKind::TimedOut`].
    pub fn timed_out(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::TimedOut, detail: detail.into() }
    }

    /// An error of kind [`CommandErrorKind::Refused`].
    pub fn refused(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::Refused, detail: detail.into() }
    }

    /// An error of kind [`CommandErrorKind::Failed`].
    pub fn failed(detail: impl Into<String>) -> CommandError {
        CommandError { kind: CommandErrorKind::Failed, detail: detail.into() }
    }
}

impl fmt::Display for CommandError {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.detail)
    }
}

impl std::error::Error for CommandError {}
