//! Why a service did not do what it was asked.

#[cfg(feature = "audio")]
use lantern_audio::AudioError;
use lantern_model::CommandError;
#[cfg(feature = "net")]
use lantern_net::LinkError;
use lantern_session::SessionError;

/// Why a service did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
    /// Sound or speech.
    #[cfg(feature = "audio")]
    #[error(transparent)]
    Audio(#[from] AudioError),
    /// A service of the session.
    #[error(transparent)]
    Session(#[from] SessionError),
    /// A device did not do it.
    #[cfg(feature = "net")]
    #[error(transparent)]
    Device(#[from] LinkError),
    /// The program was built without this.
    #[error("this program was built without {0}")]
    NotBuilt(&'static str),
    /// The program itself has a fault, which a panic showed.
    #[error("a fault of the program itself: {0}; please report it")]
    Fault(String),
    /// It was stopped on the way.
    #[error("stopped")]
    Stopped,
}

impl ServiceError {
    /// Everything in one line, with what the person can do about it.
    pub fn line(&self) -> String {
        match self {
            #[cfg(feature = "audio")]
            ServiceError::Audio(error) => error.line(),
            ServiceError::Session(error) => error.line(),
            #[cfg(feature = "net")]
            ServiceError::Device(error) => error.line(),
            ServiceError::NotBuilt(_) | ServiceError::Fault(_) | ServiceError::Stopped => {
                self.to_string()
            }
        }
    }
}

impl From<ServiceError> for CommandError {
    fn from(error: ServiceError) -> CommandError {
        let detail = error.line();
        match error {
            #[cfg(feature = "audio")]
            ServiceError::Audio(_) => CommandError::unavailable(detail),
            ServiceError::Session(SessionError::Launch(error)) => error.into(),
            ServiceError::Session(SessionError::Silent { .. }) => CommandError::timed_out(detail),
            ServiceError::Session(
                SessionError::NoEntry { .. }
                | SessionError::NoNumber { .. }
                | SessionError::NothingToPress { .. },
            ) => CommandError::not_found(detail),
            ServiceError::Session(SessionError::Greyed { .. }) => CommandError::refused(detail),
            ServiceError::Session(_) => CommandError::unavailable(detail),
            #[cfg(feature = "net")]
            ServiceError::Device(LinkError::Silent { .. }) => CommandError::timed_out(detail),
            #[cfg(feature = "net")]
            ServiceError::Device(LinkError::Refused { .. }) => CommandError::refused(detail),
            #[cfg(feature = "net")]
            ServiceError::Device(_) => CommandError::unavailable(detail),
            ServiceError::NotBuilt(_) => CommandError::unsupported(detail),
            ServiceError::Fault(_) => CommandError::failed(detail),
            ServiceError::Stopped => CommandError::refused(detail),
        }
    }
}
