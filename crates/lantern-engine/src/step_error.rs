//! Why an expression or a step of a run failed.

use lantern_model::{CommandError, CommandErrorKind};

/// Failure of an expression or of a step.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub(crate) struct StepError {
    /// The sort of failure; none if the engine found it itself.
    pub kind: Option<CommandErrorKind>,
    /// What happened, for people.
    pub message: String,
}

impl From<CommandError> for StepError {
    fn from(error: CommandError) -> StepError {
        StepError { kind: Some(error.kind), message: error.detail }
    }
}

impl From<String> for StepError {
    fn from(message: String) -> StepError {
        StepError { kind: None, message }
    }
}

impl From<&str> for StepError {
    fn from(message: &str) -> StepError {
        StepError { kind: None, message: message.to_owned() }
    }
}

pub(crate) type Evaluated<T> = Result<T, StepError>;
