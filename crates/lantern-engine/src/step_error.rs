//! Why an expression or a step of a run failed.

/// Why an expression or a step failed, for a person.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub(crate) struct StepError(String);

impl From<String> for StepError {
    fn from(message: String) -> StepError {
        StepError(message)
    }
}

impl From<&str> for StepError {
    fn from(message: &str) -> StepError {
        StepError(message.to_owned())
    }
}

pub(crate) type Evaluated<T> = Result<T, StepError>;
